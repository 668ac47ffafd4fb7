"""How long commands take over a ledger of many jobs, and how two processes get along on it.

    python benchmarks/scale.py [--jobs N]

Prints the wall time of `jobs`, of `jobs` with filters and of all, of `costs`, of collecting with
nothing out and of running what is done already, against a bare interpreter. Targets for 100 000
jobs: `jobs` 0.5 s, all of them, `costs` and resuming 2 s. Then two processes write to one ledger at
once for some seconds, and their errors are counted.
"""

import argparse
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

import numpy as np
import soundfile

from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.records import LEDGER_FILE
from sizes import parsed

SETTINGS = """
[settings]
to = ["txt"]
[engine.pond]
accepts.formats = ["flac"]
price = { per_minute = "0.01", currency = "credits" }
reply.format = "text"
command = { run = ["echo", "still water"], audio = "stdin" }
"""

WRITER = """
import sys, time
from pathlib import Path
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.request_rows import Bill, PieceToSend
ledger, errors, made, end = Ledger(Path(sys.argv[1])), 0, 0, time.monotonic() + float(sys.argv[3])
ledger.jobs.open(JobToOpen(sys.argv[2], "note", "sha256:0", "pond"))
while time.monotonic() < end:
    try:
        record = ledger.requests.claim(PieceToSend(sys.argv[2], f"{sys.argv[2]} {made}", 0.0, 1.0))
        ledger.requests.answer(ledger.requests.send(record, 10), b"x", Bill(1.0, None))
        ledger.pace.next_turn("pond", 1000, 60.0)
        made += 1
    except Exception as error:
        errors += 1
        print(error, file=sys.stderr)
print(made, errors)
"""


def fill(folder: Path, count: int) -> None:
    """Add so many jobs, each with as much as the one that is there tells of how to do it again."""
    Ledger(folder).close()
    now = time.time()
    with closing(sqlite3.connect(folder / LEDGER_FILE)) as connection:
        options, made = connection.execute("SELECT options, made FROM job").fetchone()
    states = ["done"] * 97 + ["failed", "cancelled", "waiting"]
    jobs, pieces, requests, attempts = [], [], [], []
    for number in range(count):
        job, key, state = (
            f"{number * 2654435761 % 2**48:016x}",
            f"request {number}",
            states[number % 100],
        )
        engine, created = ("brook", "heron", "pond")[number % 3], now - number * 30
        name = f"evening/net {number}.wav"
        jobs.append(
            (
                job,
                name,
                name,
                f"sha256:{number}",
                engine,
                state,
                60.0,
                "credits",
                created,
                created,
                "",
                options,
                made,
            )
        )
        requests.append((key, state, "nothing" if state == "done" else None))
        pieces.append((job, key, 0.0, 60.0))
        attempts.append((key, job, created, created, 1000, state, "sure", 60.0, "0.01"))
    with closing(sqlite3.connect(folder / LEDGER_FILE)) as connection, connection:
        for table, columns, rows in (
            (
                "job",
                "id, recording, searchable, digest, engine, state, duration, currency, created, "
                "changed, identity, options, made",
                jobs,
            ),
            ("request", "key, state, reply", requests),
            ("piece", "job, request, starts, ends", pieces),
            (
                "attempt",
                "request, job, started, ended, bytes, outcome, charge, billed, cost",
                attempts,
            ),
        ):
            marks = ", ".join("?" * len(columns.split(",")))
            connection.executemany(f"INSERT INTO {table} ({columns}) VALUES ({marks})", rows)


def median(command: list[str], folder: Path, runs: int) -> float:
    times = []
    for _ in range(runs):
        started = time.perf_counter()
        ended = subprocess.run(command, cwd=folder, capture_output=True, check=False)
        # A command that is refused is quick as well; `collect ffff` finds no such job.
        assert ended.returncode == 0 or "ffff" in command, ended.stderr.decode()
        times.append(time.perf_counter() - started)
    return statistics.median(times)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--jobs", type=int, default=100_000)
    parser.add_argument("--seconds", type=float, default=10.0)
    parser.add_argument("--runs", type=int, default=5)
    options = parsed(parser, {"jobs": 300, "seconds": 0.5, "runs": 1})
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "mantisreed.toml").write_text(SETTINGS)
        soundfile.write(
            folder / "note.wav", np.random.default_rng(1).normal(0, 0.1, 32_000), 16_000
        )
        program = [sys.executable, "-m", "mantisreed"]
        subprocess.run(
            [*program, "run", "note.wav", "--keep-silence"],
            cwd=folder,
            check=True,
            capture_output=True,
        )
        fill(folder / ".mantisreed", options.jobs)
        rows = {
            "python -c pass": [sys.executable, "-c", "pass"],
            "jobs": [*program, "jobs"],
            "jobs --state failed --name 'net 77'": [
                *program,
                "jobs",
                "--state",
                "failed",
                "--name",
                "net 77",
            ],
            "jobs --limit 0": [*program, "jobs", "--limit", "0"],
            "costs --by month": [*program, "costs", "--by", "month"],
            "collect, nothing out": [*program, "collect", "ffff"],
            "run of what is done": [*program, "run", "note.wav", "--keep-silence"],
        }
        print(
            f"a ledger of {options.jobs} jobs, "
            f"{(folder / '.mantisreed/ledger.sqlite').stat().st_size / 1e6:.0f} MB"
        )
        for name, command in rows.items():
            print(f"{name:42} {median(command, folder, options.runs):.2f} s")
        writers = [
            subprocess.Popen(
                [
                    sys.executable,
                    "-c",
                    WRITER,
                    ".mantisreed",
                    f"writer{number}",
                    str(options.seconds),
                ],
                cwd=folder,
                stdout=subprocess.PIPE,
                text=True,
            )
            for number in range(2)
        ]
        results = [process.communicate()[0].split() for process in writers]
        made, errors = (sum(int(result[place]) for result in results) for place in (0, 1))
        print(f"two processes for {options.seconds:g} s: {made} pieces noted, {errors} errors")


if __name__ == "__main__":
    main()
