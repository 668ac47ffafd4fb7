"""Preparing long recordings: speed against a plain conversion, memory, the first request, growth
with length.

    python benchmarks/preparing.py [--runs N] [--hours H]

Four parts, each printed with its target:
1. a 60-minute MP3 decoded, listened to, cut and encoded as FLAC pieces, against one `ffmpeg`
   process that only converts it to 16 kHz mono FLAC; both as processes of their own, from their
   start, turn about. Target: at most 0.75 x.
2. peak memory of preparing 1 hour and H hours in pieces of 10 minutes, the decoding process counted
   as well.
   Target: under 200 MB, and under 1.2 x.
3. from the start of `mantisreed run` on a 3-hour MP3 to the first request. Target: under 2 s.
4. time for each hour of 1, 2 and 4 hours: the same where growth is linear.
"""

import argparse
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from sizes import parsed

PREPARE = """
import resource, sys
from pathlib import Path
from mantisreed.audio.workers import DecodingWorkers
workers = DecodingWorkers()
workers.warm_up()
from mantisreed.engines.card import EngineCard, Reply
from mantisreed.pipeline.preparing.pieces import PieceOptions, Preparation

card = EngineCard(name="bench", reply=Reply(format="text"))
with workers:
    count = sum(1 for _ in Preparation(Path(sys.argv[1]), card, PieceOptions(piece_length=600.0), workers))
own, others = (resource.getrusage(who).ru_maxrss for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
print(count, own // 1024, others // 1024)
"""  # noqa: E501

CARD = """
[engine.bench]
url = "http://127.0.0.1:PORT"
[engine.bench.send]
path = "/"
raw = "{audio}"
[engine.bench.reply]
format = "text"
"""


def timed(*command: str | Path) -> tuple[float, str]:
    start = time.perf_counter()
    done = subprocess.run(command, check=True, capture_output=True, text=True)
    return time.perf_counter() - start, done.stdout


def prepared(path: Path) -> tuple[float, list[int]]:
    seconds, told = timed(sys.executable, "-c", PREPARE, path)
    return seconds, [int(number) for number in told.split()]


def recording(folder: Path, hours: float, form: str) -> Path:
    """The same ten minutes again and again would be too easy for caches; a composition is not."""
    path = folder / f"{hours:g}h.{form}"
    english = [phrase for phrase in load_bank() if phrase.language == "en"]
    compose(
        english,
        seed=round(hours * 10),
        duration=hours * 3600,
        pauses=(0.3, 1.6),
        level_range=6,
        snr=20,
    ).write(path)
    return path


def against_ffmpeg(path: Path, folder: Path, runs: int) -> None:
    if not shutil.which("ffmpeg"):
        print("1. no ffmpeg on this machine to compare with")
        return
    ours, theirs = [], []
    for _ in range(runs):
        ours.append(prepared(path)[0])
        command = (
            "ffmpeg",
            "-v",
            "error",
            "-y",
            "-i",
            path,
            "-ac",
            "1",
            "-ar",
            "16000",
            folder / "o.flac",
        )
        theirs.append(timed(*command)[0])
    mine, other = statistics.median(ours), statistics.median(theirs)
    print(
        f"1. 60-min MP3: {mine:.2f} s, ffmpeg {other:.2f} s: {mine / other:.2f} x (target 0.75), "
        f"{runs} runs"
    )


def first_request(path: Path, folder: Path) -> float:
    arrived: list[float] = []

    class Engine(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            arrived.append(time.perf_counter())
            self.rfile.read(int(self.headers["Content-Length"]))
            self.send_response(200)
            self.send_header("Content-Type", "text/plain")
            self.end_headers()
            self.wfile.write(b"tea")

        def log_message(self, format: str, *args: object) -> None:  # noqa: A002
            pass

    with ThreadingHTTPServer(("127.0.0.1", 0), Engine) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        (folder / "mantisreed.toml").write_text(CARD.replace("PORT", str(server.server_address[1])))
        start = time.perf_counter()
        subprocess.run(
            [sys.executable, "-m", "mantisreed", "run", path, "--overwrite"],
            cwd=folder,
            check=True,
            capture_output=True,
        )
        server.shutdown()
    return arrived[0] - start


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--hours", type=float, default=10)
    parser.add_argument("--scale", type=float, default=1.0, help="of all lengths of recordings")
    options = parsed(parser, {"runs": 1, "hours": 10, "scale": 0.01})
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        against_ffmpeg(recording(folder, options.scale, "mp3"), folder, options.runs)
        short, long = (
            prepared(recording(folder, hours * options.scale, "flac"))[1]
            for hours in (1, options.hours)
        )
        both = [sum(figures[1:]) for figures in (short, long)]
        print(
            f"2. peak memory for 1 h and {options.hours:g} h: {both[0]} MB ({short[1]} + "
            f"{short[2]} decoding) and "
            f"{both[1]} MB ({long[1]} + {long[2]}): {both[1] / both[0]:.2f} x (targets: under 200 "
            "MB, under 1.2 x)"
        )
        three = recording(folder, 3 * options.scale, "mp3")
        waits = sorted(first_request(three, folder) for _ in range(options.runs))
        print(
            f"3. first request of a 3-h MP3: {statistics.median(waits):.2f} s (target 2), "
            f"{options.runs} runs"
        )
        hours = {h: recording(folder, h * options.scale, "flac") for h in (1, 2, 4)}
        each = {
            h: statistics.median(prepared(path)[0] / h for _ in range(options.runs))
            for h, path in hours.items()
        }
        print(
            "4. seconds for each hour: "
            + ", ".join(f"{seconds:.2f} of {h} h" for h, seconds in each.items())
        )


if __name__ == "__main__":
    main()
