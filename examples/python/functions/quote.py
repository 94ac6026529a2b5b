"""quote: what does a crossing cost? Any HTTP server that listens on PORT will do."""

import json
import os
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs, urlsplit

BASE = {"skerry-holm": 450, "holm-skerry": 450, "brackwater-skerry": 720, "skerry-brackwater": 720}
VEHICLE = {"foot": 0, "bicycle": 300, "car": 2900, "van": 4400}

# the initial work: every fare there is, sorted by what is asked for
TABLE = {
    (crossing, vehicle, passengers): cents * passengers * 9 // 10 + extra
    for crossing, cents in sorted(BASE.items())
    for vehicle, extra in VEHICLE.items()
    for passengers in range(1, 2001)
}


class Quote(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"  # keeps connections open
    wbufsize = -1  # headers and body in one write: two would wait for each other on a kept connection

    def do_GET(self):
        url = urlsplit(self.path)
        ask = {k: v[0] for k, v in parse_qs(url.query).items()}
        key = (url.path.removeprefix("/quote/"), ask.get("vehicle", "foot"), int(ask.get("passengers", "1")))
        if key in TABLE:
            self.reply(200, {"crossing": key[0], "cents": TABLE[key]})
        else:
            self.reply(404, {"error": "no such crossing"})

    def reply(self, status, value):
        body = json.dumps(value).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args):
        pass


ThreadingHTTPServer(("127.0.0.1", int(os.environ["PORT"])), Quote).serve_forever()
