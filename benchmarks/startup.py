"""How long `mantisreed --help` takes, against a bare interpreter in the same run.

    python benchmarks/startup.py [--runs N]

Prints the median of N runs each, taken in turn, and their ratio. Target: at most 2.5.
"""

import argparse
import shutil
import statistics
import subprocess
import sys
import time
from pathlib import Path

from sizes import parsed


def seconds(command: list[str]) -> float:
    start = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--runs", type=int, default=30)
    runs = parsed(parser, {"runs": 1}).runs
    script = Path(sys.executable).with_name("mantisreed")
    command = (
        str(script)
        if script.exists()
        else shutil.which("mantisreed") or sys.exit("mantisreed is not installed")
    )
    rows: dict[str, list[str]] = {
        "python -c pass": [sys.executable, "-c", "pass"],
        "mantisreed --help": [command, "--help"],
        "mantisreed run --help": [command, "run", "--help"],
    }
    times: dict[str, list[float]] = {name: [] for name in rows}
    for number in range(runs + 1):
        for name, arguments in rows.items():
            taken = seconds(arguments)
            if number:  # the first round warms the caches
                times[name].append(taken)
    bare = statistics.median(times["python -c pass"])
    for name, taken_times in times.items():
        median = statistics.median(taken_times)
        print(f"{name:24} {median * 1000:6.1f} ms   {median / bare:4.2f} x")


if __name__ == "__main__":
    main()
