"""{{.Name}}: a small function. Any HTTP server that listens on PORT will do."""

import json
import os
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer


class Function(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"  # keeps connections open
    wbufsize = -1  # headers and body in one write

    def do_GET(self):
        self.reply(200, {"asked": self.path})

    def do_POST(self):  # an event: its attributes are in the ce- headers
        data = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        print("event", self.headers.get("ce-type"), len(data), "bytes")
        self.reply(200, {"seen": self.headers.get("ce-id")})

    def reply(self, status, value):
        body = json.dumps(value).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args):
        pass


ThreadingHTTPServer(("127.0.0.1", int(os.environ["PORT"])), Function).serve_forever()
