"""Clips dropped into a watched folder, phrases of a live stream, a large table: what is lost, and
how long it takes.

    python benchmarks/flows.py [--clips N] [--rows N] [--seconds N]

Clips: so many are dropped at one moment into a folder that is watched, before an engine that takes
eight at once, 0.15 s each. The watch is killed (SIGKILL) in the middle and started again. Target:
one output each, nothing answered again but what was on its way at the kill.
Live: a stream is fed at its own pace; the time from the end of each phrase to its request is
measured. Target: at most 0.3 s beyond the pause.
Table: all rows but the last ten are done; the command is run, and run again. Target: under 3 s.
"""

import argparse
import csv
import signal
import subprocess
import sys
import tempfile
import threading
import time
import wave
from collections.abc import Sequence
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import numpy as np

from judge import SETTINGS, Judge
from mantisreed.audio.decode import SAMPLE_RATE
from mantisreed.standin.bank import Phrase, load_bank
from mantisreed.standin.composer import compose
from sizes import parsed

COMMAND = [sys.executable, "-m", "mantisreed"]
PAUSE = 0.8


def write_clip(path: Path, number: int, phrases: Sequence[Phrase]) -> None:
    """A phrase, with noise that no other clip has."""
    spoken = phrases[number % len(phrases)].samples[: 2 * SAMPLE_RATE] * 32767
    samples = (
        (spoken + np.random.default_rng(number).normal(0, 10, len(spoken)))
        .clip(-32768, 32767)
        .astype("<i2")
    )
    with wave.open(str(path), "wb") as sink:
        sink.setnchannels(1)
        sink.setsampwidth(2)
        sink.setframerate(SAMPLE_RATE)
        sink.writeframes(samples.tobytes())


def clips(count: int, phrases: Sequence[Phrase]) -> str:
    judge = Judge(0.15)
    with tempfile.TemporaryDirectory() as place, judge.sitting() as port:
        folder = Path(place)
        waiting, inbox = folder / "waiting", folder / "inbox"
        waiting.mkdir()
        settings = SETTINGS.format(port=port).replace(
            "[engine.ferry]", "[engine.ferry]\nmax_concurrent = 8"
        )
        (folder / "mantisreed.toml").write_text(settings)
        for number in range(count):
            write_clip(waiting / f"clip {number:05d}.wav", number, phrases)
        inbox.mkdir()
        command = [*COMMAND, "watch", "inbox", "--engine", "ferry", "--to", "txt", "-q"]
        began = time.monotonic()
        with subprocess.Popen(
            [*command, "--until-idle", "60s"], cwd=folder, stdout=subprocess.DEVNULL
        ) as first:
            time.sleep(2)
            for path in waiting.iterdir():
                path.rename(inbox / path.name)
            while sum(judge.answered.values()) < count // 3:
                time.sleep(0.1)
            first.send_signal(signal.SIGKILL)
        subprocess.run(
            [*command, "--until-idle", "4s"], cwd=folder, stdout=subprocess.DEVNULL, check=True
        )
        took = time.monotonic() - began
        outputs = len(list((folder / "transcripts").iterdir()))
        return (
            f"{count} clips, killed once: {outputs} outputs, {judge.answered_again} answered "
            "again, "
            f"{took:.0f} s (the engine alone takes {count * 0.15 / 8:.0f} s)"
        )


def live(seconds: int, phrases: Sequence[Phrase]) -> str:
    composition = compose(phrases, seed=4, duration=seconds, pauses=(1.3, 2.2), snr=25)
    sound = np.concatenate(list(composition.blocks()), axis=1)[0]
    content = (sound * 32767).astype("<i2").tobytes()
    came: list[float] = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            came.append(time.monotonic())
            self.rfile.read(int(self.headers["Content-Length"]))
            self.send_response(200)
            self.send_header("Content-Length", "15")
            self.end_headers()
            self.wfile.write(b'{"says": "yes"}')

        def log_message(self, *arguments: object) -> None:
            pass

    with (
        tempfile.TemporaryDirectory() as place,
        ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server,
    ):
        threading.Thread(target=server.serve_forever, daemon=True).start()
        (Path(place) / "mantisreed.toml").write_text(SETTINGS.format(port=server.server_address[1]))
        command = [
            *COMMAND,
            "run",
            "-",
            "--live",
            "--engine",
            "ferry",
            "--pause",
            f"{PAUSE}s",
            "-q",
        ]
        with subprocess.Popen(
            command, cwd=place, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL
        ) as process:
            assert process.stdin is not None
            time.sleep(3)  # it takes a while to start, which is no part of what is measured
            began, step = time.monotonic(), 320 * 2
            for place_in, block in enumerate(
                content[n : n + step] for n in range(0, len(content), step)
            ):
                ahead = began + place_in * 0.02 - time.monotonic()
                if ahead > 0:
                    time.sleep(ahead)
                process.stdin.write(block)
                process.stdin.flush()
            process.stdin.close()
            process.wait()
        server.shutdown()
    # The last one ends with the stream.
    ends = [said.words[-1].end for said in composition.truth][:-1]
    beyond = [moment - began - end - PAUSE for moment, end in zip(came, ends, strict=False)]
    return (
        f"{len(ends) + 1} phrases, {len(came)} requests; from the end of a phrase to its request, "
        "beyond the pause: "
        f"median {np.median(beyond):.2f} s, at most {max(beyond):.2f} s"
    )


def table(rows: int, phrases: Sequence[Phrase]) -> str:
    with tempfile.TemporaryDirectory() as place, Judge(0.0).sitting() as port:
        folder = Path(place)
        (folder / "mantisreed.toml").write_text(SETTINGS.format(port=port))
        columns = (
            "source",
            "title",
            "text",
            "state",
            "words",
            "confidence",
            "cost",
            "files",
            "error",
        )
        with (folder / "calls.csv").open("w", newline="") as sink:
            writer = csv.writer(sink)
            writer.writerow(columns)
            for number in range(rows):
                name = f"clip {number:05d}.wav"
                write_clip(folder / name, number, phrases) if number >= rows - 10 else (
                    folder / name
                ).touch()
                done = (
                    ("a text", "done", 2, "", "0.0001", "x.txt", "")
                    if number < rows - 10
                    else ("",) * 7
                )
                writer.writerow((name, f"note {number}", *done))
        began = time.monotonic()
        command = [*COMMAND, "run", "calls.csv", "--fill", "--engine", "ferry", "--to", "txt", "-q"]
        subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=True)
        took, began = time.monotonic() - began, time.monotonic()
        subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=True)
        again, began = time.monotonic() - began, time.monotonic()
        subprocess.run([sys.executable, "-c", "pass"], check=True)
        bare = time.monotonic() - began
        with (folder / "calls.csv").open() as source:
            done = sum(row["state"] == "done" for row in csv.DictReader(source))
        return (
            f"{rows} rows, ten to do: {done} done, {took:.1f} s; none to do: {again:.1f} s "
            f"(a bare interpreter: {bare:.2f} s)"
        )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--clips", type=int, default=2000)
    parser.add_argument("--rows", type=int, default=10_000)
    parser.add_argument("--seconds", type=int, default=60)
    given = parsed(parser, {"clips": 6, "rows": 12, "seconds": 10})
    phrases = [phrase for phrase in load_bank() if phrase.language == "en"]
    print(live(given.seconds, phrases), flush=True)
    print(table(given.rows, phrases), flush=True)
    print(clips(given.clips, phrases), flush=True)


if __name__ == "__main__":
    main()
