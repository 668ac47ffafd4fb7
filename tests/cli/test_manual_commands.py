"""The commands of pages that have no other test of all their commands work as they stand there."""

import io
import shlex
import shutil
import sys
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from cli.manual import commands_of
from cli.shelf import Shelf
from conftest import Command, Note
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose

PAGES = ("jobs", "long-recordings", "sources", "subtitles")
ELSEWHERE = ("mantisreed standin", "mantisreed watch s3:", "mantisreed run 's3:", "pip install")
"""The beginnings of what runs until it is ended, or needs what is not on this machine."""

SRT = "1\n00:00:01,000 --> 00:00:02,500\nNets up.\n\n2\n00:01:03,000 --> 00:01:05,000\nAll well.\n"


def run_here(page: str) -> list[str]:
    return [one for one in commands_of(page) if not one.startswith(ELSEWHERE)]


@pytest.fixture
def folder(settings: Path, note: Note, english: list[Phrase], mantisreed: Command) -> Path:
    """A folder with all that the commands name."""
    place = settings.parent
    # Long enough for ten cues, which `sync` asks for; a file is known by its content.
    compose(english, seed=5, duration=90).write(place / "talk.wav")
    shutil.copy(place / "talk.wav", place / "talk.mp3")
    (place / "talk.wav").rename(place / "talk.mp4")
    for name in ("interview.wav", "field note.wav", "notes.wav", "call.wav"):
        shutil.copy(note.path, place / name)
    for name in ("evenings", "inbox"):
        (place / name).mkdir()
        compose(english, seed=len(name), duration=8).write(place / name / f"{name}.flac")
    (place / "calls.csv").write_text("source,recording\ncall.wav,call.wav\n")
    done = mantisreed("run", "talk.mp4", "--to", "json,srt", "--into", ".")
    assert done.returncode == 0, done.stderr
    for name in ("part1", "part2", "late"):
        (place / f"{name}.srt").write_text(SRT)
    for name in ("drifted", "german"):
        shutil.copy(place / "talk.srt", place / f"{name}.srt")
    (place / "notes.txt").write_text(" ".join(one.phrase.text for one in note.composition.truth))
    with zipfile.ZipFile(place / "kept.zip", "w") as kept:
        kept.write(place / "evenings" / "evenings.flac", "evenings.flac")
    return place


@pytest.mark.parametrize("page", PAGES)
def test_every_command_of_a_page_works(
    page: str,
    folder: Path,
    note: Note,
    shelf: Shelf,
    mantisreed: Command,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    shelf.offer("/notes.xml", "/notes", sound=note.path.read_bytes())
    for command in run_here(page):
        words = shlex.split(command.replace("https://marsh.example/notes", f"{shelf.url}/notes"))
        assert words[0] == "mantisreed", command
        if ">" in words:
            words = words[: words.index(">")]
        if "<" in words:
            at_sign = words.index("<")
            content = io.BytesIO((folder / words[at_sign + 1]).read_bytes())
            monkeypatch.setattr(sys, "stdin", io.TextIOWrapper(content))
            words = words[:at_sign]
        if "3fa9" in words:
            words[words.index("3fa9")] = a_job(mantisreed)
        if "marsh" in words:
            words[words.index("marsh")] = "brook"
        if words[1] == "watch":
            words += ["--until-idle", "1s", "--settle-time", "0.2s"]
        if words[1] == "forget":
            words += ["--yes"]  # whoever is at a terminal is asked
        words = list(globbed(words[1:], folder))
        ended = mantisreed(*words)
        assert ended.returncode in expected(words), (command, ended.stdout, ended.stderr)


def a_job(mantisreed: Command) -> str:
    listed = mantisreed("jobs", "--state", "done").stdout.splitlines()[1:]
    return next(line for line in listed if "talk.mp4" in line or "evenings" in line)[:8]


def globbed(words: list[str], folder: Path) -> Iterator[str]:
    """As a shell gives them."""
    for word in words:
        if word == "*.srt":
            yield from sorted(path.name for path in folder.glob("*.srt"))
        else:
            yield word


def expected(words: list[str]) -> tuple[int, ...]:
    """Exit codes; a check that finds something says so by its own."""
    return (0, 1) if words[0] == "check" else (0,)


def test_the_tests_of_the_manual_know_of_what_they_leave_out() -> None:
    every = [one for page in PAGES for one in run_here(page)]
    assert len(every) > 30
