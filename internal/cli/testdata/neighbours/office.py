"""A slow, faulty service of others: every seventh call fails, every fifth takes long."""
import itertools, json, os, time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

numbers = itertools.count(1)


class Office(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_GET(self):
        asked = next(numbers)  # one per request, whatever the other threads do meanwhile
        time.sleep(0.1 if asked % 5 == 0 else 0.03)
        body = json.dumps({"asked": asked, "path": self.path}).encode()
        self.send_response(503 if asked % 7 == 0 else 200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


ThreadingHTTPServer(("127.0.0.1", int(os.environ["PORT"])), Office).serve_forever()
