"""Handlers for tests: what a person may write, and what may go wrong."""
import asyncio
import json
import os
import sys
import threading
import time

TABLE = {"holm": 1200}


def quote(event, context):
    print("asked", context.attempt, context.last_attempt, context.left_ms > 0, context.instance)
    return {"cents": TABLE["holm"], "query": event["query"], "path": event["path"], "body": event["body"]}


def scan(event, context):
    print("attempt", context.attempt, "last", context.last_attempt)
    if event["data"]["pass"] == "bad":
        raise ValueError("bad pass")
    return {"id": event["id"], "type": event["type"], "deck": context.attributes["deck"]}


def data(body):
    return body


def batch(events):
    return {"retry": [e["id"] for e in events if e["data"]["pass"] == "later"]}


async def slowly(event):
    await asyncio.sleep(0.001)
    return b"raw \x00 bytes"


class Desk:
    def __init__(self):
        self.asked = 0

    def quote(self, event):
        self.asked += 1
        return self.asked

    def __call__(self, event, context=None):
        return "called"


desk = Desk()


def together(event):
    """Two at a time, or neither."""
    return {"together": GATE.wait(timeout=10) >= 0, "process": os.getpid()}


GATE = threading.Barrier(2)


def envelope(event):
    return {"code": 418, "meta": {"X-Tide": "high", "Set-Cookie": ["a=1", "b=2"]}, "result": "aGVsbG8=", "coded": True}


def bare(event):
    return {"result": 1}


def wsgi(environ, start_response):
    start_response("201 Created", [("Content-Type", "text/plain"), ("X-Query", environ["QUERY_STRING"])])
    return [environ["REQUEST_METHOD"].encode(), b" ", environ["wsgi.input"].read()]


async def asgi(scope, receive, send):
    m = await receive()
    await send({"type": "http.response.start", "status": 202, "headers": [(b"x-path", scope["path"].encode())]})
    await send({"type": "http.response.body", "body": m["body"] + b"!"})


def nothing(event):
    pass


def raises(event):
    json.loads("{")


def no_json(event):
    return {1, 2}


def leaves(event):
    sys.exit(4)


def dies(event):
    os._exit(5)


def hangs(event):
    time.sleep(60)


def three(a, b, c):
    pass
