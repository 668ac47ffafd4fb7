"""The pictures of a terminal in the documentation show what the commands print today, and a table
keeps its short columns whole in a narrow terminal.
"""

import shutil
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from pictures import COLUMNS, SHOTS, TEXTS, Scene, demo, plain, played, scenes, settled

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
