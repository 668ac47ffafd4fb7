"""One `run` over very many short recordings: whether its memory grows, and what each costs.

    python benchmarks/many.py [--recordings N]

Prints the memory of the command after each tenth of the recordings and the most of it, the CPU time
of a recording, and whether each sound was answered once. Target for 10 000 recordings: under
200 MB, and no growth that would matter for a hundred thousand.
"""

import argparse
import resource
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from pathlib import Path

from flows import write_clip
from judge import SETTINGS, Judge
from mantisreed.standin.bank import load_bank
from sizes import parsed

_LOOK = 0.2  # seconds between two looks at how far it has come


def watched(folder: Path, count: int) -> list[tuple[int, int]]:
    """Run it; gives how many recordings were done, and its megabytes, at each tenth."""
    command = [sys.executable, "-m", "mantisreed", "run", "in", "--engine", "ferry", "-q"]
    running = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL)
    status, written = Path(f"/proc/{running.pid}/status"), folder / "transcripts"
    looks: list[tuple[int, int]] = []
    while running.poll() is None:
        time.sleep(_LOOK)
        done = sum(1 for _ in written.iterdir()) // 3 if written.is_dir() else 0
        if done < (looks[-1][0] if looks else 0) + max(1, count // 10):
            continue
        with suppress(OSError, StopIteration):  # it has just ended, or the system has no such file
            lines = status.read_text().splitlines()
            line = next(line for line in lines if line.startswith("VmRSS"))
            looks.append((done, int(line.split()[1]) >> 10))
    if running.wait():
        sys.exit(f"the run ended with {running.returncode}")
    return looks


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--recordings", type=int, default=10_000)
    options = parsed(parser, {"recordings": 20})
    phrases, judge = load_bank(), Judge(0.0)
    with tempfile.TemporaryDirectory() as place, judge.sitting() as port:
        folder = Path(place)
        (folder / "in").mkdir()
        (folder / "mantisreed.toml").write_text(SETTINGS.format(port=port))
        for number in range(options.recordings):
            write_clip(folder / "in" / f"clip {number:06}.wav", number, phrases)
        began = time.monotonic()
        looks = watched(folder, options.recordings)
        took = time.monotonic() - began
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    print(f"{options.recordings} recordings in {took:.0f} s")
    print("memory: " + ", ".join(f"{megabytes} MB after {done}" for done, megabytes in looks))
    print(f"at most {used.ru_maxrss >> 10} MB (of any of its processes)")
    cpu = 1000 * (used.ru_utime + used.ru_stime) / options.recordings
    print(f"{cpu:.1f} ms of CPU a recording, the start of the command among it")
    print(f"answered again: {judge.answered_again}")


if __name__ == "__main__":
    main()
