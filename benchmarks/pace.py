"""How exactly an engine's pace is kept: never over it, and how near the shortest time that it
allows.

    python benchmarks/pace.py [--requests N] [--pace N] [--window S]

Recordings are sent by one process, and by two at once that share a ledger, to an engine that notes
when each request comes in. Prints the most requests that came in any window, and the time from the
first to the last against the shortest possible. Target: never over, within 2 %.
"""

import argparse
import json
import subprocess
import sys
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar

import numpy as np
import soundfile

from sizes import parsed

SETTINGS = """
[settings]
to = ["txt"]
[engine.sluice]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
rate_limit = {{ requests = {pace}, window = "{window} s" }}
max_concurrent = 30
send.raw = "{{audio}}"
reply.text = "says"
"""


class Sluice(BaseHTTPRequestHandler):
    """Notes when it was asked."""

    came: ClassVar[list[float]] = []

    def do_POST(self) -> None:
        self.came.append(time.monotonic())
        self.rfile.read(int(self.headers["Content-Length"]))
        body = json.dumps({"says": "water"}).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *arguments: object) -> None:
        pass


class Server(ThreadingHTTPServer):
    """With room for all that knock at once; the system lets others wait a second and more."""

    request_queue_size = 128


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--requests", type=int, default=60)
    parser.add_argument("--pace", type=int, default=15)
    parser.add_argument("--window", type=float, default=20.0)
    options = parsed(parser, {"requests": 3, "pace": 2, "window": 0.5})
    chance = np.random.default_rng(1)
    shortest = (options.requests - 1) // options.pace * options.window
    for processes in (1, 2):
        Sluice.came.clear()
        with tempfile.TemporaryDirectory() as place, Server(("127.0.0.1", 0), Sluice) as server:
            folder = Path(place)
            for number in range(options.requests):
                part = folder / f"part {number % processes}"
                part.mkdir(exist_ok=True)
                soundfile.write(part / f"note {number}.wav", chance.normal(0, 0.1, 16_000), 16_000)
            port = server.server_address[1]
            text = SETTINGS.format(port=port, pace=options.pace, window=options.window)
            (folder / "mantisreed.toml").write_text(text)
            threading.Thread(target=server.serve_forever, daemon=True).start()
            command = [sys.executable, "-m", "mantisreed", "run", "-q", "--keep-silence"]
            running = [
                subprocess.Popen(
                    [*command, f"part {number}"], cwd=folder, stdout=subprocess.DEVNULL
                )
                for number in range(processes)
            ]
            codes = [process.wait() for process in running]
            server.shutdown()
        came = np.sort(Sluice.came)
        most = max(
            int(np.sum((came >= moment) & (came < moment + options.window))) for moment in came
        )
        taken = float(came[-1] - came[0])
        over = "OVER" if most > options.pace else "never over"
        print(
            f"{processes} process{'es' if processes > 1 else ''}, exit codes {codes}: {len(came)} "
            "requests, at most "
            f"{most} in any {options.window:g} s ({over}), {taken:.2f} s against {shortest:.2f} s: "
            f"{(taken / shortest - 1) * 100:.1f} % more"
        )


if __name__ == "__main__":
    main()
