"""Completing words in a shell."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from cli.ferry import Ferry
from conftest import Command
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose


def completed(folder: Path, line: str) -> list[str]:
    """What the program offers for the last word of a line, as a shell asks for it."""
    told = folder / "told"
    asked = {
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_IFS": "\n",
        "_ARGCOMPLETE_SHELL": "bash",
        "_ARGCOMPLETE_STDOUT_FILENAME": str(told),
    }
    command = [sys.executable, "-m", "mantisreed"]
    subprocess.run(command, cwd=folder, env={**os.environ, **asked}, check=True, timeout=60)
    return [word.strip() for word in told.read_text().splitlines() if word.strip()]


@pytest.mark.parametrize(
    ("line", "offered"),
    [
        ("mantisreed comp", ["compare", "completion"]),
        ("mantisreed run --spend", ["--spend-limit"]),
        ("mantisreed run a.wav --engine br", ["brook", "brook:quick"]),
        ("mantisreed run a.wav --engine brook,her", ["brook,heron", "brook,heron:south"]),
        ("mantisreed engines try bittern:", ["bittern:lines"]),
        ("mantisreed run a.wav --to srt,v", ["srt,vtt"]),
        ("mantisreed export ab --layout ph", ["phone"]),
        ("mantisreed docs engine-r", ["engine-recipes-jobs", "engine-recipes"]),
    ],
)
def test_words_are_completed(settings: Path, tmp_path: Path, line: str, offered: list[str]) -> None:
    assert completed(tmp_path, line) == offered


def test_jobs_are_completed_by_their_ids(
    mantisreed: Command, ferry: Ferry, english: list[Phrase], tmp_path: Path
) -> None:
    compose(english, seed=4, duration=8).write(tmp_path / "note.flac")
    with ferry.sailing(tmp_path):
        assert mantisreed("run", "note.flac").returncode == 0
    job = mantisreed("jobs").stdout.splitlines()[1].split()[0]
    (found,) = completed(tmp_path, f"mantisreed jobs {job[:3]}")
    assert found.startswith(job)


def test_broken_settings_are_no_reason_to_say_anything(tmp_path: Path) -> None:
    (tmp_path / "mantisreed.toml").write_text("[engine")
    assert completed(tmp_path, "mantisreed run a.wav --engine b") == []


def test_the_code_for_each_shell_is_printed(
    mantisreed: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    for shell in ("bash", "zsh", "fish", "powershell"):
        assert "mantisreed" in mantisreed("completion", shell).stdout
    monkeypatch.setenv("SHELL", "/bin/bash")
    assert mantisreed("completion").stdout == mantisreed("completion", "bash").stdout
    wrong = mantisreed("completion", "tcsh")
    assert wrong.returncode == 2 and "known are bash, zsh" in wrong.stderr
