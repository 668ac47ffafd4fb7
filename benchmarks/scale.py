"""How long commands take over a ledger of many jobs, and how two processes get along on it.

    python benchmarks/scale.py [--jobs N]

Prints the wall time of `jobs`, of `jobs` with filters, of `costs`, of collecting with nothing out and of running what
is done already, against a bare interpreter. Targets for 100 000 jobs: `jobs` 0.5 s, resuming 2 s. Then two processes
write to one ledger at once for some seconds, and their errors are counted.
"""

import argparse
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from mantisreed.jobs import schema
from mantisreed.jobs.database import Database

SETTINGS = """
[settings]
to = ["txt"]
[engine.pond]
accepts.formats = ["flac"]
price = { per_minute = "0.01", currency = "shells" }
reply.kind = "text"
command = { run = ["echo", "still water"] }
"""

WRITER = """
import sys, time
from pathlib import Path
from mantisreed.jobs.ledger import Ledger
ledger, errors, made, end = Ledger(Path(sys.argv[1])), 0, 0, time.monotonic() + float(sys.argv[3])
ledger.open_job(sys.argv[2], "note", "sha256:0", "pond", None)
while time.monotonic() < end:
    try:
        record = ledger.claim(sys.argv[2], f"{sys.argv[2]} {made}", 0.0, 1.0, None)
        ledger.send(record, 10)
        ledger.finish(record, b"x", billed=1.0, cost=None)
        ledger.next_start("pond", 1000, 60.0, time.time())
        made += 1
    except Exception as error:
        errors += 1
        print(error, file=sys.stderr)
print(made, errors)
"""


def fill(folder: Path, count: int) -> None:
    database = Database(folder)
    now = time.time()
    states = ["done"] * 97 + ["failed", "cancelled", "waiting"]
    with database.changing() as connection:
        schema.prepare(connection)
        jobs = [
            {
                "id": f"{number * 2654435761 % 2**48:012x}",
                "recording": f"evening/net {number}.wav",
                "digest": f"sha256:{number}",
                "engine": ("brook", "heron", "pond")[number % 3],
                "state": states[number % 100],
                "duration": 60.0,
                "currency": "shells",
                "created": now - number * 30,
                "changed": now - number * 30,
            }
            for number in range(count)
        ]
        connection.execute(schema.job.insert(), jobs)
        pieces = [
            {
                "id": number + 1,
                "job": job["id"],
                "request": f"request {number}",
                "start": 0.0,
                "end": 60.0,
                "state": job["state"],
                "reply": "nothing" if job["state"] == "done" else None,
                "saved": False,
            }
            for number, job in enumerate(jobs)
        ]
        connection.execute(schema.piece.insert(), pieces)
        attempts = [
            {
                "piece": number + 1,
                "started": job["created"],
                "ended": job["created"],
                "bytes": 1000,
                "outcome": job["state"],
                "billed": 60.0,
                "cost": "0.01",
            }
            for number, job in enumerate(jobs)
        ]
        connection.execute(schema.attempt.insert(), attempts)
    database.close()


def median(command: list[str], folder: Path, runs: int = 5) -> float:
    times = []
    for _ in range(runs):
        started = time.perf_counter()
        subprocess.run(command, cwd=folder, capture_output=True, check=False)
        times.append(time.perf_counter() - started)
    return statistics.median(times)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--jobs", type=int, default=100_000)
    parser.add_argument("--seconds", type=float, default=10.0)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "mantisreed.toml").write_text(SETTINGS)
        (folder / ".mantisreed").mkdir()
        fill(folder / ".mantisreed", options.jobs)
        soundfile.write(folder / "note.wav", np.random.default_rng(1).normal(0, 0.1, 32_000), 16_000)
        program = [sys.executable, "-m", "mantisreed"]
        subprocess.run([*program, "run", "note.wav", "--keep-silence"], cwd=folder, check=True, capture_output=True)
        rows = {
            "python -c pass": [sys.executable, "-c", "pass"],
            "jobs": [*program, "jobs"],
            "jobs --state failed --recording 'net 77'": [
                *program,
                "jobs",
                "--state",
                "failed",
                "--recording",
                "net 77",
            ],
            "costs --by month": [*program, "costs", "--by", "month"],
            "collect, nothing out": [*program, "collect", "ffff"],
            "run of what is done": [*program, "run", "note.wav", "--keep-silence"],
        }
        print(
            f"a ledger of {options.jobs} jobs, {(folder / '.mantisreed/ledger.sqlite').stat().st_size / 1e6:.0f} MB"
        )
        for name, command in rows.items():
            print(f"{name:42} {median(command, folder):.2f} s")
        writers = [
            subprocess.Popen(
                [sys.executable, "-c", WRITER, ".mantisreed", f"writer{number}", str(options.seconds)],
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
