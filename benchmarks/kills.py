"""A batch that is killed again and again, at random moments, against the same batch undisturbed.

    python benchmarks/kills.py [--kills N] [--seed N]

Recordings are sent in pieces to an engine that counts what it answers; the command is killed (SIGKILL) at random
moments and started again until the batch is done, batch after batch until there were enough kills. Prints for each
batch: kills, whether all outputs are to the byte those of the undisturbed run, pieces, how many were answered more
than once, and how many attempts the ledger calls in doubt. Nothing may be answered twice beyond those.
"""

import argparse
import hashlib
import json
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar

from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose

SETTINGS = """
[settings]
to = ["txt", "srt", "json"]
[engine.ferry]
address = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
price = {{ per_minute = "0.01", currency = "shells" }}
send.raw = "{{audio}}"
reply.text = "says"
"""
COMMAND = [sys.executable, "-m", "mantisreed"]
RUN = [*COMMAND, "run", "recordings", "--piece-length", "8s"]


class Ferry(BaseHTTPRequestHandler):
    """Answers with words made of the sound's digest, after a while."""

    answered: ClassVar[Counter[str]] = Counter()

    def do_POST(self) -> None:
        digest = hashlib.sha256(self.rfile.read(int(self.headers["Content-Length"]))).hexdigest()
        time.sleep(0.15)
        body = json.dumps({"says": " ".join(digest[n : n + 4] for n in range(0, 24, 4))}).encode()
        self.answered[digest] += 1
        try:
            self.send_response(200)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)
        except OSError:
            pass  # whoever asked was killed

    def log_message(self, *arguments: object) -> None:
        pass


def outputs(folder: Path) -> dict[str, bytes]:
    return {path.name: path.read_bytes() for path in sorted((folder / "transcripts").iterdir())}


def clear(folder: Path) -> None:
    shutil.rmtree(folder / ".mantisreed", ignore_errors=True)
    shutil.rmtree(folder / "transcripts", ignore_errors=True)
    Ferry.answered.clear()


def doubts(folder: Path) -> int:
    listed = subprocess.run([*COMMAND, "jobs", "--json"], cwd=folder, capture_output=True, check=True).stdout
    return sum(job["doubts"] for job in json.loads(listed)["jobs"])


def killed_batch(folder: Path, chance: random.Random, most: int) -> int:
    """Kills until the batch is done, or until there were enough; then it is let through."""
    for kills in range(most + 1):
        process = subprocess.Popen(RUN, cwd=folder, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
        try:
            process.wait(timeout=None if kills == most else chance.uniform(0.3, 3.0))
            return kills
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGKILL)
            process.wait()
    raise AssertionError("unreachable")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    chance = random.Random(options.seed)
    phrases = [phrase for phrase in load_bank() if phrase.language == "en"]
    with tempfile.TemporaryDirectory() as place, ThreadingHTTPServer(("127.0.0.1", 0), Ferry) as server:
        folder = Path(place)
        (folder / "recordings").mkdir()
        for number in range(4):
            path = folder / "recordings" / f"note {number}.flac"
            compose(phrases, seed=300 + number, duration=240, pauses=(0.8, 1.5)).write(path)
        (folder / "mantisreed.toml").write_text(SETTINGS.format(port=server.server_address[1]))
        threading.Thread(target=server.serve_forever, daemon=True).start()
        subprocess.run(RUN, cwd=folder, check=True, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
        undisturbed, pieces = outputs(folder), len(Ferry.answered)
        total = 0
        while total < options.kills:
            clear(folder)
            kills = killed_batch(folder, chance, options.kills - total)
            total += kills
            twice = sum(Ferry.answered.values()) - len(Ferry.answered)
            same = "the same to the byte" if outputs(folder) == undisturbed else "DIFFERENT"
            in_doubt = doubts(folder)
            verdict = "" if twice <= in_doubt and len(Ferry.answered) == pieces else "  PAID TWICE OR LOST"
            print(
                f"{kills:3} kills: outputs {same}; {len(Ferry.answered)} of {pieces} pieces, {twice} answered again, "
                f"{in_doubt} in doubt{verdict}",
                flush=True,
            )
        server.shutdown()


if __name__ == "__main__":
    main()
