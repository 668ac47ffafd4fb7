"""Recordings sent to stand-ins of which a share of all answers goes wrong in every way there is.

    python benchmarks/faults.py [--recordings N] [--share S] [--seed N]

Half of the recordings goes to an engine that answers at once, half to one with uploads, jobs and a
token. Prints how many are done, how many have the text that was spoken, how many failed by an
answer that came damaged (it may have been charged, so that it is kept, and not asked for again
without being told to), what went wrong by kind, and how many sounds were answered well more than
once. Target: all done or damaged, all texts right, none answered twice.
"""

import argparse
import json
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from mantisreed.standin import server
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Listener
from mantisreed.transcript.document import from_json
from sizes import parsed

KEY = "a-key-for-benchmarks"


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--recordings", type=int, default=300)
    parser.add_argument("--share", type=float, default=0.3)
    parser.add_argument("--seed", type=int, default=1)
    options = parsed(parser, {"recordings": 4})
    bank = load_bank()
    english = [phrase for phrase in bank if phrase.language == "en"]
    profile = FaultProfile(seed=options.seed, faults=options.share, hang=12.0)
    listener = Listener(bank)
    with (
        tempfile.TemporaryDirectory() as place,
        server.bound_socket(0) as waiting,
        server.serving(server.standins(listener, KEY, profile), waiting) as address,
    ):
        folder = Path(place)
        said = {}
        for number in range(options.recordings):
            engine = ("brook", "dipper")[number % 2]
            (folder / engine).mkdir(exist_ok=True)
            composition = compose(english, seed=1000 + number, duration=9.0, snr=30)
            composition.write(folder / engine / f"{engine} {number}.flac")
            said[f"{engine} {number}"] = " ".join(word.text for word in composition.words)
        settings = folder / "mantisreed.toml"
        server.write_cards(settings, address, KEY, listener)
        cards = settings.read_text()
        for step in ("brook.send", "dipper.steps.start", "dipper.steps.upload", "dipper.steps.ask"):
            assert f"[engine.{step}]" in cards
            cards = cards.replace(f"[engine.{step}]", f'[engine.{step}]\ntimeout = "8 s"')
        cards = cards.replace("requests = 120", "requests = 100000")
        for engine in ("brook", "dipper"):
            cards = cards.replace(f"[engine.{engine}]", f"[engine.{engine}]\nmax_concurrent = 12")
        settings.write_text(f'[settings]\nmax_attempts = 20\nto = ["json"]\n\n{cards}')
        started = time.perf_counter()
        states: list[str] = []
        damaged = 0
        for engine in ("brook", "dipper"):
            command = [
                sys.executable,
                "-m",
                "mantisreed",
                "run",
                engine,
                "--engine",
                engine,
                "--json",
                "-q",
            ]
            result = subprocess.run(command, cwd=folder, capture_output=True, text=True)
            ended = json.loads(result.stdout)["recordings"]
            states += [one["state"] for one in ended]
            damaged += sum(
                "not" in str(one.get("error")) and one["state"] == "failed" for one in ended
            )
            print(result.stderr.strip()[:400] or f"{engine}: exit code {result.returncode}")
        seconds = time.perf_counter() - started
        written = {
            path.name.removesuffix(".transcript.json"): " ".join(
                word.text for word in from_json(path.read_bytes()).words
            )
            for path in (folder / "transcripts").iterdir()
        }
        with urllib.request.urlopen(f"{address}/tally") as answer:
            tally = json.loads(answer.read())
        wrong = [name for name, text in said.items() if name in written and written[name] != text]
        twice = sum(count - 1 for count in tally["answered"].values())
        print(
            f"{states.count('done')} of {options.recordings} done in {seconds:.0f} s, "
            f"{len(written) - len(wrong)} with the text spoken {wrong or ''}, "
            f"{damaged} kept as damaged answers, {len(states) - states.count('done') - damaged} "
            "otherwise"
        )
        print(f"{sum(tally['asked'].values())} requests, faults: {tally['faults']}")
        print(f"{len(tally['answered'])} sounds answered, {twice} of them more than once")


if __name__ == "__main__":
    main()
