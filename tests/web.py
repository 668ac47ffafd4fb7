"""A small web server for a test, in a thread of its own."""

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer


class QuietHandler(BaseHTTPRequestHandler):
    """Answers with whole bodies, and logs nothing."""

    def send(self, status: int, content: bytes, kind: str | None = None) -> None:
        """An answer, with its media type where one is given."""
        self.send_response(status)
        if kind is not None:
            self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)

    def send_json(self, document: object) -> None:
        """A good answer, without a media type."""
        self.send(200, json.dumps(document).encode())

    def log_message(self, *arguments: object) -> None:
        """Nothing, so that a test prints its own words only."""


@contextmanager
def listening(handler: type[BaseHTTPRequestHandler]) -> Iterator[int]:
    """The port of a server with this handler, until the context ends."""
    with ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        try:
            yield server.server_address[1]
        finally:
            server.shutdown()
