"""Several processes with the same command on one ledger, with and without kills: is any sound paid
for twice?

    python benchmarks/processes.py [--rounds N] [--url postgresql://USER@HOST:PORT/DATABASE]

In each round 2 or 4 processes run the same command at once, to an engine that answers at once or
one that takes jobs; in every second round one of them is killed (SIGKILL) at a random moment. With
--url the ledger is in PostgreSQL, where each round has a schema of its own. Prints for each kind of
round: rounds, sounds, sounds that were answered again, attempts that the ledger calls unconfirmed,
and rounds in which something was lost or more was answered again than is unconfirmed. Goal: none.
"""

import argparse
import json
import random
import shutil
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

from judge import SETTINGS, Judge
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from sizes import parsed

COMMAND = [sys.executable, "-m", "mantisreed"]


def one_round(folder: Path, engine: str, count: int, kill_after: float | None) -> bool:
    """Whether all processes that were not killed have ended well, and all outputs are there."""
    run = [*COMMAND, "run", "recordings", "--piece-length", "8s", "--engine", engine]
    processes = [
        subprocess.Popen(run, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        for _ in range(count)
    ]
    if kill_after is not None:
        try:
            processes[0].wait(timeout=kill_after)
        except subprocess.TimeoutExpired:
            processes[0].send_signal(signal.SIGKILL)
    codes = [process.wait() for process in processes]
    return (
        all(code in (0, -signal.SIGKILL) for code in codes)
        and len(list((folder / "transcripts").iterdir())) == 9
    )


def unconfirmed_in(folder: Path) -> int:
    listed = subprocess.run(
        [*COMMAND, "jobs", "--json"], cwd=folder, capture_output=True, check=True
    ).stdout
    return sum(job["unconfirmed_attempts"] for job in json.loads(listed)["jobs"])


def clear(folder: Path, port: int, url: str | None, number: int) -> None:
    for name in (".mantisreed", "transcripts"):
        shutil.rmtree(folder / name, ignore_errors=True)
    ledger = ""
    if url is not None:
        import psycopg

        schema = f"round_{number}"
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(f"DROP SCHEMA IF EXISTS {schema} CASCADE")
            connection.execute(f"CREATE SCHEMA {schema}")
        ledger = f'[ledger]\nurl = "{url}?options=-csearch_path%3D{schema}"\n'
    (folder / "mantisreed.toml").write_text(SETTINGS.format(port=port) + ledger)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--rounds", type=int, default=50)
    parser.add_argument("--url")
    parser.add_argument("--counts", type=int, nargs="+", default=[2, 4], help="processes at once")
    parser.add_argument("--seed", type=int, default=1)
    options = parsed(parser, {"rounds": 1, "counts": [2]})
    chance = random.Random(options.seed)
    phrases = [phrase for phrase in load_bank() if phrase.language == "en"]
    judge = Judge()
    with tempfile.TemporaryDirectory() as place, judge.sitting() as port:
        folder = Path(place)
        (folder / "recordings").mkdir()
        for number in range(3):
            path = folder / "recordings" / f"note {number}.flac"
            compose(phrases, seed=400 + number, duration=50, pauses=(0.8, 1.5)).write(path)
        number = 0
        for engine in ("ferry", "barge"):
            for count in options.counts:
                sounds = again = unconfirmed = bad = 0
                for round_ in range(options.rounds):
                    number += 1
                    clear(folder, port, options.url, number)
                    judge.answered.clear()
                    kill_after = chance.uniform(0.5, 3.0) if round_ % 2 else None
                    is_well = one_round(folder, engine, count, kill_after)
                    doubtful = unconfirmed_in(folder)
                    sounds += len(judge.answered)
                    again += judge.answered_again
                    unconfirmed += doubtful
                    bad += not is_well or judge.answered_again > doubtful
                print(
                    f"{engine}, {count} processes: {options.rounds} rounds, {sounds} sounds, "
                    f"{again} answered again, "
                    f"{unconfirmed} unconfirmed, {bad} rounds not as they should be",
                    flush=True,
                )


if __name__ == "__main__":
    main()
