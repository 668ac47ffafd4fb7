"""Every command in the manual on reviewing works as it stands there."""

import json
import shlex
import shutil
from pathlib import Path

import pytest

from cli.manual import commands_of
from conftest import Command, Moody
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.habits import Habits

PAGES = ("scoring", "doubts", "review", "personal-data")
LINES = [line for page in PAGES for line in commands_of(page)]
HABITS = {"brook": Habits(loop=0.2, silence=0.3)}


def test_the_manual_has_recipes_for_every_command() -> None:
    commands = {line.split()[1] for line in LINES}
    assert {
        "score",
        "amend",
        "vote",
        "doubts",
        "run",
        "compare",
        "review",
        "redact",
        "export",
    } <= commands


@pytest.mark.timeout(300)
def test_every_recipe_works(
    mantisreed: Command, moody: Moody, english: list[Phrase], tmp_path: Path
) -> None:
    composition = compose(english, seed=44, duration=40, pauses=(0.8, 2.0))
    composition.write(tmp_path / "round.wav")
    truth = "\n".join(said.phrase.text for said in composition.truth)
    for name in ("talk.mp3", "talk.mp4", "call.wav", "calls/call.wav"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        shutil.copy(tmp_path / "round.wav", tmp_path / name)
    for name in ("truth.txt", "round.txt"):
        (tmp_path / name).write_text(truth)
    (tmp_path / "people.txt").write_text("dunlin\n")
    with moody(FaultProfile(habits=HABITS), engine="brook", tries=1):
        for engine in ("brook", "heron", "sedge"):
            done = mantisreed(
                "run", "round.wav", "--engine", engine, "--into", engine, "--to", "json,srt,vtt,txt"
            )
            assert done.returncode == 0, done.stderr
        for name, engine in (
            ("talk", "brook"),
            ("call", "heron"),
            ("truth", "heron"),
            *((e, e) for e in HABITS),
            ("heron", "heron"),
            ("sedge", "sedge"),
        ):
            for ending in ("transcript.json", "srt", "vtt", "txt"):
                if not (tmp_path / f"{name}.{ending}").exists():
                    shutil.copy(
                        tmp_path / engine / f"round.{ending}", tmp_path / f"{name}.{ending}"
                    )
        jobs = json.loads(mantisreed("jobs", "--json", "--engine", "brook").stdout)["jobs"]
        for number, line in enumerate(LINES):
            given = shlex.split(line.replace("3fa9", jobs[0]["id"]))[1:]
            # Each recipe stands for itself: what another one has written is not in its way.
            if "--into" in given:
                place = given.index("--into") + 1
                given[place] = f"{given[place]}-{number}"
            elif given[0] in ("review", "run", "compare"):
                given += ["--into", f"out-{number}"]
            result = mantisreed(*given)
            assert result.returncode == 0, (line, result.stderr)
