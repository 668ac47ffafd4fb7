"""A forked start cannot be told from a usual one, except by how soon it is there."""

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

import forked_starts
from conftest import Command, free_port

pytestmark = pytest.mark.skipif(
    not hasattr(os, "memfd_create"), reason="starts are forked on Linux only"
)

COMMAND = [sys.executable, "-m", "mantisreed"]


def both(
    *arguments: str, folder: Path, **given: object
) -> list["subprocess.CompletedProcess[bytes]"]:
    def run() -> "subprocess.CompletedProcess[bytes]":
        return subprocess.run(  # type: ignore[call-overload, no-any-return]
            [*COMMAND, *arguments], cwd=folder, capture_output=True, timeout=60, **given
        )

    forked = run()
    with forked_starts.as_usual():
        usual = run()
    return [forked, usual]


@pytest.mark.parametrize(
    "arguments",
    [
        ["--version"],
        ["nonsense"],
        ["jobs"],
        ["check", "none.srt"],
        ["run", "none.wav", "--engine", "none"],
        ["convert", "-", "--from", "srt", "--to", "vtt"],
    ],
)
def test_it_says_and_gives_the_same(arguments: list[str], tmp_path: Path) -> None:
    cue = "1\n00:00:01,000 --> 00:00:02,500\nwing sixty six – 翼\n".encode()
    forked, usual = both(*arguments, folder=tmp_path, input=cue)
    assert forked.returncode == usual.returncode
    assert forked.stdout == usual.stdout and forked.stderr == usual.stderr


def test_its_environment_is_the_one_that_it_was_given(tmp_path: Path) -> None:
    environment = {**os.environ, "COLUMNS": "40", "XDG_CONFIG_HOME": str(tmp_path)}
    forked, usual = both("engines", "--help", folder=tmp_path, env=environment)
    assert forked.stdout == usual.stdout


@pytest.mark.parametrize("by", [signal.SIGKILL, signal.SIGTERM, signal.SIGINT])
def test_it_is_a_child_that_can_be_waited_for_and_killed(
    by: signal.Signals, settings: Path
) -> None:
    listen = f"127.0.0.1:{free_port()}"
    process = subprocess.Popen(
        [*COMMAND, "serve", "--listen", listen],
        cwd=settings.parent,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert isinstance(process, forked_starts.ForkedPopen)
    with process:
        assert process.stdout is not None and "listening" in process.stdout.readline()
        assert process.poll() is None
        process.send_signal(by)
        assert process.wait(40) == (-by if by == signal.SIGKILL else 0)


def test_what_only_an_interpreter_can_do_is_left_to_one(program: Command) -> None:
    for command in (
        [sys.executable, "-X", "utf8", "-m", "mantisreed", "--version"],
        [sys.executable, "-c", "import sys; print('mantisreed' in sys.modules)"],
    ):
        assert forked_starts._wanted(command, None) is None
    assert forked_starts._wanted([*COMMAND, "jobs"], {"LC_ALL": "C"}) is None
    assert program("--version").returncode == 0
