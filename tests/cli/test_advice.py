"""What messages advise can be done, and helps."""

import ast
import itertools
import re
import shlex
from collections.abc import Iterator
from pathlib import Path

import pytest

import advice
import mantisreed as package
from conftest import Command, Note
from mantisreed.cli.main import COMMANDS
from mantisreed.trust import TRUST_VARIABLE

SOURCE = Path(package.__file__).parent
# They serve, or make something, until they are told to stop.
_LASTING = ("demo", "standin", "serve", "watch")
SRT = "1\n00:00:01,000 --> 00:00:03,000\nWe opened the nets.\n"


def advised() -> Iterator[tuple[str, str]]:
    """Each text that some code gives as advice, with its place."""
    for file in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text())):
            given = None
            if isinstance(node, ast.keyword) and node.arg == "advice":
                given = node.value
            if isinstance(node, ast.Assign) and "advice" in ast.unparse(node.targets[0]):
                given = node.value
            for part in ast.walk(given) if given is not None else ():
                # What calls another program has that one's options.
                if not isinstance(part, ast.Constant) or not isinstance(part.value, str):
                    continue
                if not part.value.startswith("curl"):
                    yield f"{file.name}:{part.lineno}", part.value


def test_every_command_and_option_that_is_advised_is_there() -> None:
    found = dict(advised())
    assert len(found) > 100
    every = frozenset().union(*(advice.options_of(command) for command in COMMANDS))
    for place, text in found.items():
        for command in advice.commands_in(text):
            assert command in COMMANDS, place
        for option in re.findall(r"(?<![\w-])--[a-z][a-z-]+", text):
            assert option in every, (place, option)


def odd_files(folder: Path) -> list[str]:
    texts = {
        "plain.txt": "We opened the nets at dawn. There were forty dunlin.\n",
        "odd.xyz": "We opened the nets.\n",
        "empty.srt": "nothing here\n",
        "good.srt": SRT,
        "other.json": '{"a": 1}\n',
        "list.csv": "a,b\n1,2\n",
    }
    for name, text in texts.items():
        (folder / name).write_text(text)
    (folder / "zeros.wav").write_bytes(bytes(2000))
    (folder / "folder").mkdir()
    return [*texts, "zeros.wav", "folder", "nowhere.srt", "-", "3fa9"]


@pytest.mark.parametrize("command", [name for name in COMMANDS if name not in _LASTING])
def test_whatever_a_command_is_given_its_advice_can_be_followed(
    mantisreed: Command, tmp_path: Path, command: str
) -> None:
    names = odd_files(tmp_path)
    second = ("plain.txt", "good.srt")
    for given in ((one,) for one in names), itertools.product(names, second):
        for files in given:
            told = mantisreed(command, *files).stderr  # the fixture looks at what is advised
            assert "internal" not in told and "unexpected" not in told


def followed(mantisreed: Command, told: str, *more: str, **names: str) -> int:
    """The exit code of the first command that a message advises, with `FILE` and so on replaced."""
    words = shlex.split(re.findall(r"`mantisreed ([^`]+)`", told)[0])
    result = mantisreed(*(names.get(word, word) for word in words), *more)
    assert result.returncode == 0, result.stderr
    return result.returncode


def test_texts_without_times_get_them_as_advised(
    mantisreed: Command, note: Note, tmp_path: Path
) -> None:
    (tmp_path / "talk.txt").write_text("We opened the nets. There were forty dunlin.\n")
    for command in ("check", "review", "redact", "doubts"):
        told = mantisreed(command, "talk.txt").stderr
        target = f"{command}.srt"
        followed(mantisreed, told, "talk.txt", target, FILE=str(note.path))
        assert mantisreed("check", target).returncode in (0, 1)


def test_what_is_named_wrongly_is_read_as_advised(mantisreed: Command, tmp_path: Path) -> None:
    (tmp_path / "talk.srt").write_text("0:01.0 - 0:03.0  We opened the nets.\n")
    (tmp_path / "timed.srt").write_text(mantisreed_timed(mantisreed, tmp_path))
    for command in ("check", "doubts", "redact", "review"):
        told = mantisreed(command, "timed.srt").stderr
        followed(mantisreed, told, "timed.srt", f"{command}.srt", FORMAT="timed")
        assert "forty" in (tmp_path / f"{command}.srt").read_text()


def mantisreed_timed(mantisreed: Command, folder: Path) -> str:
    (folder / "good.srt").write_text(SRT.replace("nets", "nets for forty dunlin"))
    assert mantisreed("convert", "good.srt", "good.timed.txt").returncode == 0
    return (folder / "good.timed.txt").read_text()


def test_a_transcript_without_cues_gets_some_as_advised(
    mantisreed: Command, settings: Path, note: Note, tmp_path: Path
) -> None:
    assert mantisreed("run", note.path, "--to", "json", "--into", ".").returncode == 0
    told = mantisreed("check", "note.transcript.json").stderr
    followed(mantisreed, told, "note.transcript.json", "note.srt")
    assert mantisreed("check", "note.srt").returncode == 0


def test_an_output_that_is_in_the_way_is_overwritten_as_advised(
    mantisreed: Command, settings: Path, note: Note, tmp_path: Path
) -> None:
    (tmp_path / "note.srt").write_text(SRT)
    command = ("run", note.path, "-q", "--to", "srt", "--into", ".")
    assert "--overwrite" in mantisreed(*command).stderr
    assert mantisreed(*command, "--overwrite").returncode == 0
    for again in (("retry",), ("collect",)):
        assert mantisreed(*again).returncode == 0


def test_settings_are_trusted_as_advised(
    mantisreed: Command,
    settings: Path,
    note: Note,
    tmp_path_factory: pytest.TempPathFactory,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setenv(TRUST_VARIABLE, "")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path_factory.mktemp("settings")))
    told = mantisreed("run", note.path, "-q")
    if told.returncode:  # only what uses something of the user's asks for trust
        followed(mantisreed, told.stderr)
    assert mantisreed("run", note.path, "-q").returncode == 0


def test_jobs_are_listed_and_engines_that_fetch_are_run_as_advised(
    mantisreed: Command, settings: Path, note: Note
) -> None:
    told = mantisreed("retry", "zz").stderr
    followed(mantisreed, told)
