"""A plain engine that counts what it was asked, and fails as it is told to."""

import hashlib
import json
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

CARD = """
[settings]
engine = "ferry"
to = ["txt", "json"]
tries = {tries}

[engine.ferry]
address = "http://127.0.0.1:{port}"
[engine.ferry.accepts]
formats = ["flac"]
[engine.ferry.price]
per_minute = "0.01"
currency = "shells"
[engine.ferry.send]
raw = "{{audio}}"
[engine.ferry.reply]
text = "says"
"""


class Ferry:
    """An engine that counts what it was asked, and answers with words made of the sound's digest."""

    def __init__(self) -> None:
        self.asked: Counter[str] = Counter()
        self.answered: Counter[str] = Counter()
        self.faults: list[str] = []
        self.slowness = 0.0

    @contextmanager
    def sailing(self, folder: Path, tries: int = 5) -> Iterator[None]:
        ferry = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                digest = hashlib.sha256(self.rfile.read(int(self.headers["Content-Length"]))).hexdigest()
                ferry.asked[digest] += 1
                ferry.answer(self, digest)

            def log_message(self, *arguments: object) -> None:
                pass

        with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            (folder / "mantisreed.toml").write_text(CARD.format(port=server.server_address[1], tries=tries))
            try:
                yield
            finally:
                server.shutdown()

    def answer(self, request: BaseHTTPRequestHandler, digest: str) -> None:
        fault = self.faults.pop() if self.faults else ""
        if not fault:
            time.sleep(self.slowness)
        body = json.dumps({"says": " ".join(digest[n : n + 4] for n in range(0, 24, 4))}).encode()
        status, kind = {"503": (503, "text/plain"), "429": (429, "text/plain"), "key": (401, "text/plain")}.get(
            fault, (200, "application/json")
        )
        body = {"truncated": body[:-9], "empty": b"", "html": b"<!DOCTYPE html><p>low tide"}.get(fault, body)
        if not fault:
            self.answered[digest] += 1
        if fault == "cut":
            request.wfile.write(b"HTTP/1.1 200 OK\r\nContent-Length: 999\r\n\r\n{")
            return
        request.send_response(status)
        if fault == "429":
            request.send_header("Retry-After", "0")
        request.send_header("Content-Type", kind)
        request.send_header("Content-Length", str(len(body)))
        request.end_headers()
        request.wfile.write(body)


def outputs(folder: Path) -> dict[str, bytes]:
    """The outputs in a workspace, by name."""
    return {path.name: path.read_bytes() for path in sorted((folder / "transcripts").iterdir())}
