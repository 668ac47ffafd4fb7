"""Several machines on one ledger in PostgreSQL: how much they do together, and what dies.

    python benchmarks/machines.py [--recordings N] [--workers N] [--seconds N]

It starts a PostgreSQL server, and an engine that answers after 0.3 s. Each worker is a process with
a folder of its own, as if on a machine of its own; recordings and outputs are in a folder that all
of them share. It prints:

- recordings a second by one worker and by several, with a database near by, and behind a line
  that takes 7 ms for each answer;
- the same while one worker is killed (SIGKILL) every four seconds, and another one comes: sounds
  that were answered again, attempts that the ledger calls unconfirmed, jobs that are not done;
- the same while the database is cut off every three seconds, and away for a while in the middle;
- the most requests at once where the engine's card says four.
"""

import argparse
import json
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from database_server import NoServerError, new_database, standing
from judge import Judge
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from outages import BreakingWay
from sizes import parsed

COMMAND = [sys.executable, "-m", "mantisreed"]
SETTINGS = """
[settings]
to = ["txt"]
[ledger]
url = "{url}"
[engine.ferry]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
max_concurrent = {at_once}
price = {{ per_minute = "0.01", currency = "credits" }}
send.raw = "{{audio}}"
reply.text = "says"
"""


class Machines:
    """Workers in a shared folder, on a ledger of their own."""

    def __init__(self, folder: Path, notes: Path, way: BreakingWay, judge: Judge) -> None:
        self.folder, self.way, self.judge = folder, way, judge
        self.count = len(list(notes.iterdir()))
        self.workers: list[subprocess.Popen[str]] = []

    def command(self, *arguments: str) -> "subprocess.Popen[str]":
        return subprocess.Popen(
            [*COMMAND, *arguments],
            cwd=self.folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )

    def jobs(self) -> list[dict[str, object]]:
        said, _ = self.command("jobs", "--json", "--limit", "0").communicate()
        found: list[dict[str, object]] = json.loads(said)["jobs"]
        return found

    def begin(self) -> None:
        worker = self.command("work", "--max-recordings", "16")
        assert worker.stdout is not None
        # What it says is read, as a full pipe would stop it.
        threading.Thread(target=worker.stdout.read, daemon=True).start()
        self.workers.append(worker)

    def wait(self, most: float) -> float:
        """Seconds until each output is there, or until that many have gone by."""
        outputs = self.folder / "transcripts"
        began = time.monotonic()
        while time.monotonic() - began < most:
            if outputs.is_dir() and len(list(outputs.glob("*.txt"))) >= self.count:
                break
            time.sleep(0.05)
        return time.monotonic() - began

    def end(self) -> None:
        for worker in self.workers:
            worker.send_signal(signal.SIGTERM)
        for worker in self.workers:
            worker.wait()
        self.workers.clear()


@contextmanager
def machines(
    server: str, notes: Path, judge: Judge, port: int, *, delay: float = 0.0, at_once: int = 64
) -> Iterator[Machines]:
    """Machines with everything queued, before any of them works."""
    way = BreakingWay(new_database(server))
    with tempfile.TemporaryDirectory() as place, way.standing():
        folder = Path(place)
        settings = SETTINGS.format(url=way.url, port=port, at_once=at_once)
        (folder / "mantisreed.toml").write_text(settings)
        judge.forget()
        group = Machines(folder, notes, way, judge)
        queueing = group.command("submit", str(notes), "--queue")
        said, _ = queueing.communicate()
        if queueing.returncode != 0:
            raise SystemExit(said)
        way.delay = delay
        try:
            yield group
        finally:
            way.delay, way.is_away = 0.0, False
            group.end()


def rate(group: Machines, workers: int, most: float) -> float:
    """Recordings a second, from the first answer on."""
    for _ in range(workers):
        group.begin()
    while not group.judge.answered:
        time.sleep(0.01)
    return group.count / group.wait(most)


def told(group: Machines) -> str:
    """How it ended."""
    jobs = group.jobs()
    unconfirmed = sum(int(str(job["unconfirmed_attempts"])) for job in jobs)
    open_ = sum(job["state"] != "done" for job in jobs)
    again = group.judge.answered_again
    text = f"{len(jobs)} jobs, {open_} not done; {again} answered again, {unconfirmed} unconfirmed"
    return f"{text}; at most {group.judge.most_at_once} at once"


def speeds(
    server: str,
    notes: Path,
    judge: Judge,
    port: int,
    counts: Sequence[int],
    delays: Sequence[float],
) -> None:
    for delay in delays:
        for workers in counts:
            with machines(server, notes, judge, port, delay=delay) as group:
                found = rate(group, workers, 600)
                print(f"database at {1000 * delay:g} ms, {workers} workers: {found:.0f} a second")
                print(f"    {told(group)}", flush=True)


def kills(group: Machines, workers: int, most: int) -> None:
    for _ in range(workers):
        group.begin()
    count = 0
    while count < most and group.wait(4.0) >= 4.0:
        first = group.workers.pop(0)
        first.kill()
        first.wait()
        group.begin()
        count += 1
    group.wait(60)
    print(f"one of {workers} workers killed {count} times: {told(group)}", flush=True)


def outages(group: Machines, workers: int, away: float, most: int) -> None:
    for _ in range(workers):
        group.begin()
    count = 0
    while count < most and group.wait(3.0) >= 3.0:
        count += 1
        if count == 2:
            group.way.is_away = True
            group.way.cut()
            time.sleep(away)
            group.way.is_away = False
        group.way.cut()
    group.wait(60)
    print(f"database cut off {count} times, away for {away:g} s: {told(group)}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--recordings", type=int, default=600)
    parser.add_argument("--workers", type=int, default=4)
    parser.add_argument("--seconds", type=float, default=60.0, help="that the database is away")
    parser.set_defaults(delays=(0.0, 0.007), most=60)
    # On a slow machine a worker that is killed after four seconds has not begun yet, and whoever
    # comes in its place has not either.
    smoke = {"recordings": 6, "workers": 1, "seconds": 1.0, "delays": (), "most": 2}
    options = parsed(parser, smoke)
    phrases = [phrase for phrase in load_bank() if phrase.language == "en"]
    judge = Judge(delay=0.3)
    try:
        with tempfile.TemporaryDirectory() as place, judge.sitting() as port, standing() as server:
            notes = Path(place)
            for number in range(options.recordings):
                path = notes / f"note {number}.flac"
                compose(phrases, seed=number, duration=8).write(path)
            at = server, notes, judge, port
            speeds(*at, sorted({1, options.workers}), options.delays)
            with machines(*at) as group:
                kills(group, options.workers, options.most)
            with machines(*at) as group:
                outages(group, options.workers, options.seconds, options.most)
            with machines(*at, at_once=4) as group:
                rate(group, options.workers, 600)
                print(f"card says 4 at once: {told(group)}")
    except NoServerError as error:
        print(error)


if __name__ == "__main__":
    main()
