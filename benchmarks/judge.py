"""A simulated engine that charges, and counts: what `kills.py` and `processes.py` judge by."""

import hashlib
import json
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

SETTINGS = """
[settings]
to = ["txt", "srt", "json"]
[engine.ferry]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
price = {{ per_minute = "0.01", currency = "credits" }}
send.raw = "{{audio}}"
reply.text = "says"
[engine.barge]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
price = {{ per_minute = "0.01", currency = "credits" }}
steps.start = {{ path = "/trips", raw = "{{audio}}", take.trip = "trip" }}
steps.ask = {{ path = "/trips/{{trip}}", state = "is", waiting = ["afloat"], done = ["ashore"], interval = "100 ms" }}
reply.text = "says"
"""  # noqa: E501
"""`ferry` answers at once, `barge` takes jobs."""


class Judge:
    """Answers with words made of the sound's digest, after a while, and counts what it answered.

    Attributes:
        answered: how often each sound was answered, or taken as a job: each time is charged for.
        delay: seconds.
        most_at_once: requests that it was answering at one moment, at most.
    """

    def __init__(self, delay: float = 0.15) -> None:
        self.answered: Counter[str] = Counter()
        self.delay = delay
        self.most_at_once = self._at_once = 0
        self._trips: list[tuple[str, float]] = []
        self._lock = threading.Lock()

    @property
    def answered_again(self) -> int:
        """Answers beyond the first of each sound."""
        return sum(self.answered.values()) - len(self.answered)

    def forget(self) -> None:
        """Begin to count anew."""
        self.answered.clear()
        self.most_at_once = 0

    @contextmanager
    def _counted(self) -> Iterator[None]:
        with self._lock:
            self._at_once += 1
            self.most_at_once = max(self.most_at_once, self._at_once)
        try:
            yield
        finally:
            with self._lock:
                self._at_once -= 1

    @contextmanager
    def sitting(self) -> Iterator[int]:
        """Serve; gives the port."""
        judge = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                with judge._counted():
                    self.answer()

            def answer(self) -> None:
                digest = hashlib.sha256(
                    self.rfile.read(int(self.headers["Content-Length"]))
                ).hexdigest()
                if self.path != "/trips":
                    time.sleep(judge.delay)
                with judge._lock:
                    judge.answered[digest] += 1
                    judge._trips.append((digest, time.monotonic() + judge.delay))
                    trip = len(judge._trips)
                self.tell({"trip": trip} if self.path == "/trips" else {"says": _said(digest)})

            def do_GET(self) -> None:
                digest, end = judge._trips[int(self.path.rpartition("/")[2]) - 1]
                is_done = time.monotonic() >= end
                self.tell({"is": "ashore", "says": _said(digest)} if is_done else {"is": "afloat"})

            def tell(self, document: dict[str, object]) -> None:
                body = json.dumps(document).encode()
                self.send_response(200)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *arguments: object) -> None:
                pass

        class Server(ThreadingHTTPServer):
            daemon_threads = True

            def handle_error(self, request: object, client_address: object) -> None:
                pass  # whoever asked was killed

        with Server(("127.0.0.1", 0), Handler) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            yield server.server_address[1]
            server.shutdown()


def _said(digest: str) -> str:
    return " ".join(digest[n : n + 4] for n in range(0, 24, 4))
