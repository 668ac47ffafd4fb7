"""A plain engine that counts what it was asked and what it charged for, and fails as it is told to:
the judge.
"""

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
max_attempts = {tries}

[engine.ferry]
url = "http://127.0.0.1:{port}"
[engine.ferry.accepts]
formats = ["flac"]
[engine.ferry.price]
per_minute = "0.01"
currency = "credits"
[engine.ferry.send]
raw = "{{audio}}"
[engine.ferry.reply]
text = "says"

[engine.barge]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
price = {{ per_minute = "0.01", currency = "credits" }}
reply.text = "says"
[engine.barge.steps.start]
path = "/trips"
raw = "{{audio}}"
take.trip = "trip"
[engine.barge.steps.ask]
path = "/trips/{{trip}}"
state = "is"
waiting = ["afloat"]
done = ["ashore"]
interval = "100 ms"
"""


def said_of(digest: str) -> str:
    """What the engine hears in a sound: words made of its digest."""
    return " ".join(digest[n : n + 4] for n in range(0, 24, 4))


class Ferry:
    """An engine that counts what it was asked, and answers with words made of the sound's digest.

    As `ferry` it answers at once, as `barge` it takes jobs.

    Attributes:
        asked: requests by the sound's digest.
        answered: those that were answered or taken, and are charged for.
        faults: what goes wrong with the next requests, the last one first.
        slowness: seconds until an answer.
        most_at_once: requests that were on their way at the same time, at most.
    """

    def __init__(self) -> None:
        self.asked: Counter[str] = Counter()
        self.answered: Counter[str] = Counter()
        self.faults: list[str] = []
        self.slowness = 0.0
        self.most_at_once = 0
        self._at_once = 0
        self._trips: list[tuple[str, float]] = []
        self._lock = threading.Lock()

    def forget(self) -> None:
        """Begin to count anew."""
        self.asked.clear()
        self.answered.clear()
        self.most_at_once = 0

    @contextmanager
    def sailing(self, folder: Path, tries: int = 5) -> Iterator[None]:
        ferry = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                digest = hashlib.sha256(
                    self.rfile.read(int(self.headers["Content-Length"]))
                ).hexdigest()
                with ferry._lock:
                    ferry.asked[digest] += 1
                    ferry._at_once += 1
                    ferry.most_at_once = max(ferry.most_at_once, ferry._at_once)
                try:
                    if self.path == "/trips":
                        ferry.take(self, digest)
                    else:
                        ferry.answer(self, digest)
                finally:
                    with ferry._lock:
                        ferry._at_once -= 1

            def do_GET(self) -> None:
                ferry.tell(self, int(self.path.rpartition("/")[2]))

            def log_message(self, *arguments: object) -> None:
                pass

        class Server(ThreadingHTTPServer):
            daemon_threads = True

            def handle_error(self, request: object, client_address: object) -> None:
                pass  # whoever asked was killed

        with Server(("127.0.0.1", 0), Handler) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            (folder / "mantisreed.toml").write_text(
                CARD.format(port=server.server_address[1], tries=tries)
            )
            try:
                yield
            finally:
                server.shutdown()

    def answer(self, request: BaseHTTPRequestHandler, digest: str) -> None:
        fault = self.faults.pop() if self.faults else ""
        if not fault:
            time.sleep(self.slowness)
        body = json.dumps({"says": said_of(digest)}).encode()
        status, kind = {
            "503": (503, "text/plain"),
            "429": (429, "text/plain"),
            "key": (401, "text/plain"),
        }.get(fault, (200, "application/json"))
        if fault == "silence":
            body = b'{"says": ""}'
        body = {"truncated": body[:-9], "empty": b"", "html": b"<!DOCTYPE html><p>low tide"}.get(
            fault, body
        )
        if not fault:
            with self._lock:
                self.answered[digest] += 1
        if fault == "cut":
            request.wfile.write(b"HTTP/1.1 200 OK\r\nContent-Length: 999\r\n\r\n{")
            return
        _respond(request, status, body, kind, {"Retry-After": "0"} if fault == "429" else {})

    def take(self, request: BaseHTTPRequestHandler, digest: str) -> None:
        """Take a job."""
        with self._lock:
            self.answered[digest] += 1
            self._trips.append((digest, time.monotonic() + self.slowness))
            trip = len(self._trips)
        _respond(request, 202, json.dumps({"trip": trip}).encode())

    def tell(self, request: BaseHTTPRequestHandler, trip: int) -> None:
        """Say how a job is."""
        digest, ends = self._trips[trip - 1]
        is_done = time.monotonic() >= ends
        document = {"is": "ashore", "says": said_of(digest)} if is_done else {"is": "afloat"}
        _respond(request, 200, json.dumps(document).encode())


def _respond(
    request: BaseHTTPRequestHandler,
    status: int,
    body: bytes,
    kind: str = "application/json",
    headers: dict[str, str] | None = None,
) -> None:
    request.send_response(status)
    for name, value in (headers or {}).items():
        request.send_header(name, value)
    request.send_header("Content-Type", kind)
    request.send_header("Content-Length", str(len(body)))
    request.end_headers()
    request.wfile.write(body)


def outputs(folder: Path, name: str = "transcripts") -> dict[str, bytes]:
    """The outputs in a workspace, by name."""
    return {
        path.name: path.read_bytes() for path in sorted((folder / name).iterdir()) if path.is_file()
    }
