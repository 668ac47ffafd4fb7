"""How many services that seeds compose are understood from the page that prints their requests, or
from their OpenAPI document: `engines learn` reads it, then a recording is transcribed. Only what a
user alone knows is filled in: the key.

    python benchmarks/pages.py [--first SEED] [--count N] [--show SEED]

Prints each that does not run, with what is wrong, and each that is wrong without a word.
"""

import argparse
import json
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from starlette.applications import Starlette
from starlette.routing import Mount

from composed.documented import SAMPLE_LENGTH, Documented, Printer
from mantisreed.standin import server
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from mantisreed.standin.hearing import Listener
from mantisreed.trust import TRUST_VARIABLE
from sizes import parsed

AT_ONCE = 3
_MOST_APART = 0.0011  # seconds


@dataclass(frozen=True)
class Tried:
    """What came of one service.

    Attributes:
        faults: what is wrong; empty when the transcript is what the service said.
        is_told: whether the proposal itself says that something is not sure.
    """

    faults: list[str]
    is_told: bool


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--first", type=int, default=0, help="the first seed")
    parser.add_argument("--count", type=int, default=100, help="how many seeds")
    parser.add_argument("--show", type=int, help="print the page of this seed, and nothing else")
    arguments = parsed(parser, {"count": 1})
    bank = load_bank()
    listener = Listener(bank)
    if arguments.show is not None:
        service = Documented(arguments.show, listener, "salt-marsh-key-2b7c")
        print(page_of(service, "https://services.marsh.example"))
        return 0
    seeds = range(arguments.first, arguments.first + arguments.count)
    services = [Documented(seed, listener, f"k3y-{seed}-9f8e7d6c5b4a") for seed in seeds]
    with tempfile.TemporaryDirectory() as root:
        sound = Path(root) / "note.wav"
        english = [phrase for phrase in bank if phrase.language == "en"]
        compose(english, seed=5, duration=15).write(sound)
        mounts = [Mount(f"/{service.name}", routes=service.routes()) for service in services]
        with (
            server.bound_socket(0) as waiting,
            server.serving(Starlette(routes=mounts), waiting) as address,
            ThreadPoolExecutor(AT_ONCE) as pool,
        ):
            found = list(pool.map(lambda service: tried(service, address, sound), services))
    silent = 0
    for service, one in zip(services, found, strict=True):
        if not one.faults:
            continue
        silent += not one.is_told
        said = "" if one.is_told else " WITHOUT A WORD"
        lines = [f"    {fault[:400]}" for fault in one.faults[:5]]
        print(f"{service.seed}:{said} {service.kind}", *lines, sep="\n")
    good = sum(not one.faults for one in found)
    print(f"{good} of {len(services)} pages are understood; {silent} are wrong without a word")
    return 0 if good >= 0.9 * len(services) and not silent else 1


def page_of(service: Documented, address: str) -> str:
    """The page of a service at an address, or its OpenAPI document."""
    if service.is_described:
        return json.dumps(service.description(f"{address}/{service.name}"), indent=2)
    return Printer(service.chance).page(service.page(f"{address}/{service.name}"))


def tried(service: Documented, address: str, sound: Path) -> Tried:
    folder = sound.parent / service.name
    folder.mkdir()
    (folder / "page.md").write_text(page_of(service, address))
    (folder / "note.wav").write_bytes(sound.read_bytes())
    environment = {**os.environ, "XDG_CONFIG_HOME": str(sound.parent / "none")}
    environment[TRUST_VARIABLE] = str(folder)

    def run(arguments: Sequence[str]) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "mantisreed", *arguments]
        return subprocess.run(
            command, cwd=folder, env=environment, capture_output=True, text=True, timeout=300
        )

    learnt = run(
        ["engines", "learn", "page.md", "--add", service.name, "--length", f"{SAMPLE_LENGTH:g}"]
    )
    if learnt.returncode:
        return Tried([f"learn: {learnt.stderr.strip()}"], is_told=True)
    settings = (folder / "mantisreed.toml").read_text()
    if service.key in settings:
        return Tried(["THE KEY STANDS IN THE SETTINGS"], is_told=False)
    for variable in re.findall(r'"env:(\w+)"', settings):
        environment[variable] = service.key
    if service.is_described:
        # A description names no user and no scheme of an own kind: its reader knows them.
        settings = settings.replace('values.user = "..."', 'values.user = "ringer"')
        if service.door == "scheme":
            settings = settings.replace('Authorization = "{', 'Authorization = "Token {')
        (folder / "mantisreed.toml").write_text(settings)
    is_told = "not sure" in settings or any(
        word in learnt.stderr for word in ("not found", "not sure", "not in the card", "doubt")
    )
    ended = run(["run", "note.wav", "--engine", service.name, "--language", "en", "--to", "json"])
    if ended.returncode:
        # A failure is told, whatever the proposal said.
        return Tried([f"exit {ended.returncode}: {ended.stderr.strip()}", *service.troubles], True)
    transcript = json.loads((folder / "transcripts" / "note.transcript.json").read_text())
    return Tried(differences(service, transcript), is_told)


def differences(service: Documented, transcript: dict[str, object]) -> list[str]:
    """Where a transcript is not what the service said."""
    passages = transcript["passages"]
    assert isinstance(passages, list)
    words = [word for passage in passages for word in passage.get("words") or ()]
    wanted = [word[0] for word in service.heard]
    text = " ".join(str(passage["text"]) for passage in passages)
    if text != " ".join(wanted):
        return [f"text: expected {' '.join(wanted)!r}, found {text!r}"]
    if service.layout == "text":
        return []
    shift = words[0]["start"] - service.heard[0][1]
    return [
        f"{said[0]!r}: expected {said[1]} to {said[2]}, found {word['start']} to {word['end']}"
        for said, word in zip(service.heard, words, strict=True)
        if abs(word["start"] - shift - said[1]) > _MOST_APART
        or abs(word["end"] - shift - said[2]) > _MOST_APART
    ]


if __name__ == "__main__":
    sys.exit(main())
