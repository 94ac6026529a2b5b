"""Runs a plain handler for Night Drill: loads FILE, finds NAME in it, and answers what comes over a Unix
socket, one connection for each slot. See docs/loaders.md for the framing. Only the standard library is used.
"""
import time

BEGAN = time.monotonic_ns()

import importlib.util
import json
import os
import socket
import struct
import sys

# what few handlers need is imported where it is needed: asyncio alone takes longer than all of the rest

HEAD = struct.Struct(">III")  # number, length of the head, length of the body
MOST = 40  # frames of a trace
HERE = os.getcwd() + os.sep
OWN = os.path.abspath(__file__)


def here(place):
    """A place in the user's code, from the folder that one is in."""
    return place[len(HERE):] if place.startswith(HERE) else place


class Context:
    """The second parameter of a handler, if it has one."""

    def __init__(self, head):
        self.id = head.get("id", "")
        self.attempt = head.get("attempt", 1)
        self.last_attempt = head.get("last_attempt", False)
        self.deadline = head.get("deadline", "")
        self.instance = head.get("instance", "")
        self.traceparent = head.get("traceparent", "")
        self.attributes = head["events"][0]["attributes"] if head.get("events") else {}
        self._until = time.monotonic() + head.get("left_ms", 0) / 1000

    @property
    def left_ms(self):
        return max(0.0, (self._until - time.monotonic()) * 1000)


class LoadError(Exception):
    def __init__(self, kind, message, file="", line=0, trace=()):
        super().__init__(message)
        self.report = {"kind": kind, "message": message, "file": os.path.abspath(file) if file else "", "line": line,
                       "trace": list(trace)}


def frames_of(error):
    """The user's frames of a traceback, without those of this loader and of the import machinery."""
    import traceback
    out = []
    for f in traceback.extract_tb(error.__traceback__):
        if os.path.abspath(f.filename) != OWN and not f.filename.startswith("<frozen"):
            out.append({"file": f.filename, "line": f.lineno, "name": f.name, "text": f.line or ""})
    return out


def report_of(kind, error):
    import sysconfig
    frames = frames_of(error)
    libraries = tuple(sysconfig.get_paths()[name] for name in ("stdlib", "platstdlib", "purelib", "platlib"))
    # the place is in the user's code, also where a library raised it
    last = ([f for f in frames if not f["file"].startswith(libraries)] or frames or [{}])[-1]
    return {"kind": kind, "type": type(error).__name__, "message": str(error), "file": last.get("file", ""),
            "line": last.get("line", 0), "trace": [f"{f['file']}:{f['line']} in {f['name']}" for f in frames[-MOST:]]}


def near(name, names):
    import difflib
    found = difflib.get_close_matches(name, names, 1)
    return f" (did you mean {found[0]!r}?)" if found else ""


def load(path, name):
    if not os.path.isfile(path):
        raise LoadError("no-file", f"no file {path}")
    sys.path.insert(0, os.path.dirname(os.path.abspath(path)))
    spec = importlib.util.spec_from_file_location(os.path.splitext(os.path.basename(path))[0], path)
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    try:
        spec.loader.exec_module(module)
    except SyntaxError as e:
        raise LoadError("import", f"{type(e).__name__}: {e.msg}", e.filename or path, e.lineno or 0)
    except SystemExit as e:
        raise LoadError("exit", f"it exits with {e.code} while it is loaded")
    except BaseException as e:
        report = report_of("import", e)
        raise LoadError("import", f"{report['type']}: {report['message']}", report["file"], report["line"], report["trace"])
    found = module
    for part in name.split("."):
        if not hasattr(found, part):
            callables = [n for n, v in vars(found).items() if callable(v) and not n.startswith("_")]
            raise LoadError("no-name", f"{path} has no {part!r}{near(part, callables)}")
        found = getattr(found, part)
    if not callable(found):
        raise LoadError("not-callable", f"{name} is a {type(found).__name__}, and cannot be called")
    return found


def arity(handler, name):
    """How many of event and context the handler takes: 0, 1 or 2."""
    code = getattr(handler, "__code__", None)
    if code and not hasattr(handler, "__wrapped__") and not code.co_kwonlyargcount:
        names, defaults = code.co_varnames[:code.co_argcount], len(handler.__defaults__ or ())
        if len(names) - defaults <= 2 and names[:1] != ("self",):
            return 2 if code.co_flags & 0x04 else min(len(names), 2)  # CO_VARARGS
    import inspect
    try:
        parameters = inspect.signature(handler).parameters.values()
    except (TypeError, ValueError):
        return 1
    place = getattr(code, "co_filename", ""), getattr(code, "co_firstlineno", 0)
    positional = [p for p in parameters if p.kind in (p.POSITIONAL_ONLY, p.POSITIONAL_OR_KEYWORD)]
    needed = [p for p in positional if p.default is p.empty]
    keywords = [p for p in parameters if p.kind == p.KEYWORD_ONLY and p.default is p.empty]
    if needed and needed[0].name == "self" and inspect.isfunction(handler):
        raise LoadError("arity", f"{name} is a method of a class and needs an instance; name an instance's method, "
                                 "or a function", *place)
    if len(needed) > 2 or keywords:
        raise LoadError("arity", f"{name} needs {len(needed) + len(keywords)} parameters; a handler gets the event, "
                                 "and, if it has a second one, the context", *place)
    if any(p.kind == p.VAR_POSITIONAL for p in parameters):
        return 2
    return min(len(positional), 2)


def value_of(kind, data):
    """Data as a value: JSON is read, text and other bytes stay bytes."""
    kind = (kind or "").split(";")[0].strip().lower()
    if not kind or kind == "application/json" or kind.endswith("+json"):
        if not data:
            return None
        try:
            return json.loads(data)
        except ValueError:
            pass
    return data


def request_of(head, body):
    from urllib.parse import parse_qsl
    r = head["request"]
    path, _, query = r["target"].partition("?")
    headers = {}
    for name, value in r["headers"]:
        name = name.lower()
        headers[name] = headers[name] + ", " + value if name in headers else value
    return {"method": r["method"], "path": path, "query": dict(parse_qsl(query, keep_blank_values=True)),
            "headers": headers, "body": value_of(headers.get("content-type"), body) if body else None}


def argument(head, body):
    takes = head["takes"]
    if takes == "shaped":
        return value_of("application/json", body)
    if "request" in head:
        r = request_of(head, body)
        return r["body"] if takes == "data" else r
    events, at = [], 0
    for e in head["events"]:
        data = value_of(e["attributes"].get("datacontenttype"), body[at:at + e["size"]])
        at += e["size"]
        events.append(data if takes == "data" else {**e["attributes"], "data": data})
    return events if head.get("batch") else events[0]


def as_wsgi(app, head, body):
    import io
    from urllib.parse import unquote
    r = head["request"]
    path, _, query = r["target"].partition("?")
    environ = {"REQUEST_METHOD": r["method"], "SCRIPT_NAME": "", "PATH_INFO": unquote(path, "latin-1"),
               "QUERY_STRING": query, "SERVER_NAME": "127.0.0.1", "SERVER_PORT": "80", "SERVER_PROTOCOL": "HTTP/1.1",
               "wsgi.version": (1, 0), "wsgi.url_scheme": "http", "wsgi.input": io.BytesIO(body),
               "wsgi.errors": sys.stderr, "wsgi.multithread": True, "wsgi.multiprocess": True,
               "wsgi.run_once": False, "CONTENT_LENGTH": str(len(body))}
    for name, value in r["headers"]:
        key = name.upper().replace("-", "_")
        environ[key if key in ("CONTENT_TYPE", "CONTENT_LENGTH") else "HTTP_" + key] = value
    said = {}

    def start_response(status, headers, exc_info=None):
        said["status"], said["headers"] = int(status.split()[0]), headers
        return lambda data: None

    parts = app(environ, start_response)
    try:
        content = b"".join(parts)
    finally:
        if hasattr(parts, "close"):
            parts.close()
    return {"kind": "response", "status": said["status"], "headers": [list(h) for h in said["headers"]]}, content


async def as_asgi(app, head, body):
    from urllib.parse import unquote
    r = head["request"]
    path, _, query = r["target"].partition("?")
    scope = {"type": "http", "asgi": {"version": "3.0"}, "http_version": "1.1", "method": r["method"],
             "scheme": "http", "path": unquote(path), "raw_path": path.encode(), "query_string": query.encode(),
             "root_path": "", "headers": [(n.lower().encode("latin-1"), v.encode("latin-1")) for n, v in r["headers"]],
             "client": None, "server": ("127.0.0.1", 80)}
    said, content, given = {"status": 500, "headers": []}, [], False

    async def receive():
        nonlocal given
        if given:
            return {"type": "http.disconnect"}
        given = True
        return {"type": "http.request", "body": body, "more_body": False}

    async def send(m):
        if m["type"] == "http.response.start":
            said["status"] = m["status"]
            said["headers"] = [[n.decode("latin-1"), v.decode("latin-1")] for n, v in m.get("headers", [])]
        elif m["type"] == "http.response.body":
            content.append(m.get("body", b""))

    await app(scope, receive, send)
    return {"kind": "response", **said}, b"".join(content)


def kind_of(handler):
    """Whether an application for requests is WSGI or ASGI."""
    import inspect
    call = handler if inspect.isroutine(handler) else getattr(type(handler), "__call__", handler)
    if inspect.iscoroutinefunction(call):
        return "asgi"
    return "asgi" if len([p for p in inspect.signature(handler).parameters.values()
                          if p.default is p.empty]) == 3 else "wsgi"


def answered(value):
    if value is None:
        return {"kind": "nothing"}, b""
    if isinstance(value, (bytes, bytearray, memoryview)):
        return {"kind": "bytes"}, bytes(value)
    return {"kind": "json"}, json.dumps(value, separators=(",", ":"), ensure_ascii=False, allow_nan=False).encode()


TRACE = None  # of the invocation, where it is passed on


def pass_trace():
    """Passes the trace context of the invocation on with what http.client sends: urllib and requests use it."""
    global TRACE
    import contextvars
    import http.client
    TRACE = contextvars.ContextVar("traceparent", default="")
    original = http.client.HTTPConnection.endheaders

    def endheaders(self, *args, **more):
        trace = TRACE.get()
        if trace and not any(line.lower().startswith(b"traceparent:") for line in self._buffer):
            self.putheader("traceparent", trace)
        return original(self, *args, **more)

    http.client.HTTPConnection.endheaders = endheaders


class Slot:
    """One connection, one invocation at a time."""

    def __init__(self, address, number):
        self.conn = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self.conn.connect(address)
        self.read = self.conn.makefile("rb", buffering=64 << 10)
        self.number = number
        self.loop = None
        self.idle = False

    def send(self, number, head, body=b""):
        head = json.dumps(head, separators=(",", ":"), ensure_ascii=False).encode()
        self.conn.sendall(HEAD.pack(number, len(head), len(body)) + head + body)

    def receive(self):
        lengths = self.read.read(HEAD.size)
        if len(lengths) < HEAD.size:
            return None
        number, head, body = HEAD.unpack(lengths)
        return number, json.loads(self.read.read(head)), self.read.read(body)

    def run(self, coroutine):
        import asyncio
        if self.loop is None:
            self.loop = asyncio.new_event_loop()
            asyncio.set_event_loop(self.loop)
        return self.loop.run_until_complete(coroutine)

    def serve(self, handler, takes, parameters):
        application = kind_of(handler) if takes == "request" else ""
        while True:
            frame = self.receive()
            if frame is None:
                return
            number, head, body = frame
            began, ends = time.monotonic_ns(), None
            user, leave = 0, None
            if TRACE:
                TRACE.set(head.get("traceparent", ""))
            try:
                if application and "request" in head:
                    began = time.monotonic_ns()
                    out = as_wsgi(handler, head, body) if application == "wsgi" else \
                        self.run(as_asgi(handler, head, body))
                    user = time.monotonic_ns() - began
                else:
                    given = (argument(head, body), Context(head))[:parameters]
                    began = time.monotonic_ns()
                    value = handler(*given)
                    if hasattr(value, "__await__"):
                        value = self.run(value)
                    user = time.monotonic_ns() - began
                    out = answered(value)
            except SystemExit as e:
                user, leave = time.monotonic_ns() - began, e.code if isinstance(e.code, int) else 1
                out = {"kind": "error", "error": {**report_of("exit", e), "message": f"it called exit({e.code})"}}, b""
            except BaseException as e:
                ends = time.monotonic_ns()
                returned = user > 0  # the value that it returned is what cannot be sent
                user = user or ends - began
                report = report_of("not-json" if returned else "raised", e)
                if returned:
                    code = getattr(handler, "__code__", None)
                    report.update(message=f"it returned a value that is not JSON: {e}", trace=[],
                                  file=getattr(code, "co_filename", ""), line=getattr(code, "co_firstlineno", 0))
                print(f"{report['type']}: {report['message']}", *map(here, report["trace"]),
                      sep="\n  ", file=sys.stderr, flush=True)
                out = {"kind": "error", "error": report}, b""
            out[0]["user_ns"] = user
            self.send(number, *out)
            if not self.idle:  # what an error would need is imported while nothing is waited for
                self.idle = True
                import sysconfig, traceback  # noqa: F401
            if leave is not None:
                sys.stdout.flush()
                os._exit(leave)


def main():
    path, name, address, slots, takes = sys.argv[1:6]
    sys.argv = [path]
    connections = [Slot(address, n) for n in range(int(slots))]
    if os.environ.get("NIGHTDRILL_PASS_TRACE"):
        pass_trace()
    loading = time.monotonic_ns()
    try:
        handler = load(path, name)
        parameters = 2 if takes == "request" else arity(handler, name)
    except LoadError as e:
        connections[0].send(0, {"error": e.report})
        print(e, *map(here, e.report["trace"]), sep="\n  ", file=sys.stderr, flush=True)
        os._exit(3)
    loaded = time.monotonic_ns()
    for slot in connections:
        slot.send(0, {"slot": slot.number, "loader_ns": loading - BEGAN, "load_ns": loaded - loading})
    if len(connections) > 1:
        import threading
    for slot in connections[1:]:
        threading.Thread(target=slot.serve, args=(handler, takes, parameters), daemon=True).start()
    connections[0].serve(handler, takes, parameters)
    sys.stdout.flush()
    os._exit(0)


if __name__ == "__main__":
    main()
