"""How many of the services that seeds compose are understood: text, times, speakers, confidence,
language, bill.

    python benchmarks/strangers.py [--first SEED] [--count N] [--show SEED]

Prints each that is not, with what is wrong, and the number of those that are.
"""

import argparse
import os
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from starlette.applications import Starlette

from composed.stranger import Stranger, mounted
from composed.trying import KEY_VARIABLE, Ended, faults_of
from mantisreed.standin import server
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from mantisreed.standin.hearing import Listener
from mantisreed.trust import TRUST_VARIABLE
from sizes import parsed

AT_ONCE = 3


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--first", type=int, default=0, help="the first seed")
    parser.add_argument("--count", type=int, default=200, help="how many seeds")
    parser.add_argument("--show", type=int, help="print the card of this seed, and do nothing else")
    arguments = parsed(parser, {"count": 1})
    bank = load_bank()
    listener = Listener(bank)
    if arguments.show is not None:
        print(Stranger(arguments.show, listener, "key").card("https://services.marsh.example"))
        return 0
    seeds = range(arguments.first, arguments.first + arguments.count)
    strangers = [Stranger(seed, listener, f"salt-{seed}-marsh") for seed in seeds]
    with tempfile.TemporaryDirectory() as root:
        sound = Path(root) / "note.wav"
        compose([phrase for phrase in bank if phrase.language == "en"], seed=5, duration=15).write(
            sound
        )
        application = Starlette(routes=mounted(strangers))
        with (
            server.bound_socket(0) as waiting,
            server.serving(application, waiting) as address,
            ThreadPoolExecutor(AT_ONCE) as pool,
        ):
            found = list(pool.map(lambda stranger: tried(stranger, address, sound), strangers))
    for stranger, faults in zip(strangers, found, strict=True):
        if faults:
            print(
                f"{stranger.seed}: {stranger.kind}",
                *(f"    {fault[:400]}" for fault in faults[:5]),
                sep="\n",
            )
    good = sum(not faults for faults in found)
    print(f"{good} of {len(strangers)} services are understood in everything")
    return 0 if good == len(strangers) else 1


def tried(stranger: Stranger, address: str, sound: Path) -> list[str]:
    folder = sound.parent / stranger.name
    folder.mkdir()
    environment = {
        **os.environ,
        KEY_VARIABLE: stranger.key,
        "XDG_CONFIG_HOME": str(sound.parent / "none"),
    }
    environment[TRUST_VARIABLE] = str(folder)

    def run(arguments: Sequence[str]) -> Ended:
        command = [sys.executable, "-m", "mantisreed", *arguments]
        ended = subprocess.run(
            command, cwd=folder, env=environment, capture_output=True, text=True, timeout=300
        )
        return Ended(ended.returncode, ended.stdout, ended.stderr)

    return faults_of(stranger, address, sound, folder, run)


if __name__ == "__main__":
    sys.exit(main())
