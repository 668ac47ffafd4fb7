"""The pictures of a terminal in the documentation show what the commands print today, and a table
keeps its short columns whole in a narrow terminal.
"""

import shutil
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from pictures import COLUMNS, ROWS, SHOTS, TEXTS, Scene, demo, plain, played, scenes, settled

from mantisreed.cli.console import Console

SCENES = scenes()

pytestmark = [
    pytest.mark.skipif(sys.platform != "linux", reason="the tool opens a terminal as Linux has it"),
    pytest.mark.skipif(shutil.which("bash") is None, reason="there is no bash"),
]


@pytest.fixture(scope="module")
def made() -> Iterator[Path]:
    with demo() as folder:
        yield folder


@pytest.mark.parametrize("scene", SCENES, ids=[scene.name for scene in SCENES])
def test_a_picture_shows_what_its_commands_print(scene: Scene, made: Path, tmp_path: Path) -> None:
    shown = plain(played(scene, made, tmp_path))
    kept = (TEXTS / f"{scene.name}.txt").read_text(encoding="utf-8")
    assert settled(shown) == settled(kept), "python tools/pictures.py renews it"
    assert (SHOTS / f"{scene.name}.png").exists()


def test_short_columns_stay_whole_and_the_last_one_gives_way(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sys.stdout, "isatty", lambda: True)
    monkeypatch.setenv("COLUMNS", str(COLUMNS))
    long = "somebody left the gate open and the cattle are on the dyke " * 2
    Console().rows(("start", "kind", "why", "text"), [("00:00:11.015", "silence", long, long)])
    lines = plain(capsys.readouterr().out).splitlines()
    assert lines[1].startswith("00:00:11.015  silence  somebody")
    assert all(len(line) <= COLUMNS for line in lines) and "…" in lines[1]


def test_a_picture_is_no_larger_than_a_terminal() -> None:
    for text in TEXTS.glob("*.txt"):
        lines = text.read_text(encoding="utf-8").splitlines()
        assert len(lines) <= ROWS and max(map(len, lines)) <= COLUMNS, text.name


def test_a_narrow_terminal_shows_the_ends_of_paths_each_on_one_line(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    rows = [("3fa9", f"archive/1998/autumn/week 38/hut/round-{number}.flac") for number in range(3)]
    for width, shown in ((40, "3fa9  …8/autumn/week 38/hut/round-1.flac"), (80, rows[1][1])):
        monkeypatch.setattr(sys.stdout, "isatty", lambda: True)
        monkeypatch.setenv("COLUMNS", str(width))
        Console().pages(("job", "recording"), [rows[:2], rows[2:]], 3)
        lines = plain(capsys.readouterr().out).splitlines()
        assert len(lines) == 4 and lines[2].endswith(shown)
        assert all(len(line) <= width for line in lines)
    monkeypatch.setattr(sys.stdout, "isatty", lambda: False)
    Console().pages(("job", "recording"), [rows], 3)
    assert rows[1][1] in capsys.readouterr().out
