"""A batch that is killed again and again, at random moments, against the same batch undisturbed.

    python benchmarks/kills.py [--kills N] [--seed N]

Recordings are sent in pieces to an engine that counts what it answers; the command is killed
(SIGKILL) at random moments and started again until the batch is done, batch after batch until there
were enough kills. Prints for each batch: kills, whether all outputs are to the byte those of the
undisturbed run, pieces, how many were answered more than once, and how many attempts the ledger
calls unconfirmed. Nothing may be answered twice beyond those.
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
RUN = [*COMMAND, "run", "recordings", "--piece-length", "8s", "--engine", "ferry"]


def outputs(folder: Path) -> dict[str, bytes]:
    return {path.name: path.read_bytes() for path in sorted((folder / "transcripts").iterdir())}


def clear(folder: Path, judge: Judge) -> None:
    shutil.rmtree(folder / ".mantisreed", ignore_errors=True)
    shutil.rmtree(folder / "transcripts", ignore_errors=True)
    judge.answered.clear()


def unconfirmed_in(folder: Path) -> int:
    listed = subprocess.run(
        [*COMMAND, "jobs", "--json"], cwd=folder, capture_output=True, check=True
    ).stdout
    return sum(job["unconfirmed_attempts"] for job in json.loads(listed)["jobs"])


def killed_batch(folder: Path, chance: random.Random, most: int) -> int:
    """Kills until the batch is done, or until there were enough; then it is let through."""
    for kills in range(most + 1):
        process = subprocess.Popen(
            RUN, cwd=folder, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL
        )
        try:
            process.wait(timeout=None if kills == most else chance.uniform(0.3, 3.0))
            return kills
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGKILL)
            process.wait()
    raise AssertionError("unreachable")


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--seconds", type=float, default=240.0, help="of each recording")
    options = parsed(parser, {"kills": 1, "seconds": 30.0})
    chance = random.Random(options.seed)
    phrases = [phrase for phrase in load_bank() if phrase.language == "en"]
    judge = Judge()
    with tempfile.TemporaryDirectory() as place, judge.sitting() as port:
        folder = Path(place)
        (folder / "recordings").mkdir()
        for number in range(4):
            path = folder / "recordings" / f"note {number}.flac"
            compose(phrases, seed=300 + number, duration=options.seconds, pauses=(0.8, 1.5)).write(
                path
            )
        (folder / "mantisreed.toml").write_text(SETTINGS.format(port=port))
        subprocess.run(
            RUN, cwd=folder, check=True, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL
        )
        undisturbed, pieces = outputs(folder), len(judge.answered)
        total = 0
        while total < options.kills:
            clear(folder, judge)
            kills = killed_batch(folder, chance, options.kills - total)
            total += kills
            twice = judge.answered_again
            same = "the same to the byte" if outputs(folder) == undisturbed else "DIFFERENT"
            unconfirmed = unconfirmed_in(folder)
            verdict = (
                ""
                if twice <= unconfirmed and len(judge.answered) == pieces
                else "  PAID TWICE OR LOST"
            )
            print(
                f"{kills:3} kills: outputs {same}; {len(judge.answered)} of {pieces} pieces, "
                f"{twice} answered again, "
                f"{unconfirmed} unconfirmed{verdict}",
                flush=True,
            )


if __name__ == "__main__":
    main()
