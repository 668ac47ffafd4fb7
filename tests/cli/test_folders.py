"""Folders and files that are not as they should be: told, counted, and without harm to the
others.
"""

import os
import resource
import subprocess
import sys
from pathlib import Path

import pytest

from cli.ferry import Ferry
from conftest import Command, Note
from mantisreed.sources.finding import find_recordings


@pytest.fixture
def folder(tmp_path: Path, note: Note) -> Path:
    folder = tmp_path / "evenings"
    folder.mkdir()
    (folder / "note.wav").write_bytes(note.path.read_bytes())
    return folder


def test_folders_that_are_not_looked_into_are_told_and_counted(
    folder: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path
) -> None:
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    (elsewhere / "other.wav").write_bytes(b"")
    (folder / "linked").symlink_to(elsewhere)
    (folder / "round").symlink_to(folder)
    with ferry.sailing(tmp_path):
        for command in ("run", "plan", "inspect"):
            ended = mantisreed(command, "evenings")
            assert ended.returncode == 1, command
            for name in ("linked", "round"):
                assert (
                    f"evenings/{name}: it is a link to a folder, which is not followed"
                    in ended.stderr
                ), command
        assert (tmp_path / "transcripts" / "note.txt").exists()
        assert mantisreed("run", "evenings/note.wav").returncode == 0


@pytest.mark.skipif(
    os.name != "posix" or os.geteuid() == 0, reason="who may do everything can read everything"
)
def test_an_unreadable_folder_is_told(folder: Path) -> None:
    (folder / "locked").mkdir(mode=0)
    assert [source.problem for source in find_recordings([folder]) if source.problem] == [
        "this folder cannot be read (permission denied)"
    ]


def test_an_unreadable_folder_is_a_source_with_a_problem(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    locked = folder / "locked"
    locked.mkdir()
    real = os.scandir

    def scandir(path: str) -> object:
        if Path(path) == locked:
            raise PermissionError(13, "Permission denied", str(path))
        return real(path)

    monkeypatch.setattr(os, "scandir", scandir)
    found = {source.path.name: source.problem for source in find_recordings([folder])}
    assert found == {"note.wav": None, "locked": "this folder cannot be read (permission denied)"}


@pytest.mark.parametrize("name", ["n" * 251, "é" * 125, "n" * 240, "🐦" * 62], ids=len)
def test_a_name_that_is_too_long_for_outputs_is_cut(
    folder: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path, name: str
) -> None:
    for end in (".wav", ".WAV"):
        (folder / f"{name}{end}").write_bytes((folder / "note.wav").read_bytes())
    with ferry.sailing(tmp_path):
        assert mantisreed("run", "evenings", "--to", "txt,json").returncode == 0
    assert len(list((tmp_path / "transcripts").glob("*.json"))) == 3


@pytest.mark.parametrize("kind", ["folder", "pipe"])
def test_what_is_no_file_is_not_overwritten_and_nothing_is_paid(
    folder: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path, kind: str
) -> None:
    place = tmp_path / "transcripts" / "note.txt"
    place.parent.mkdir()
    place.mkdir() if kind == "folder" else os.mkfifo(place)
    with ferry.sailing(tmp_path):
        refused = mantisreed("run", "evenings", "--overwrite")
    assert refused.returncode == 1 and "is not a file" in refused.stderr
    assert not ferry.asked


@pytest.mark.skipif(os.name != "posix", reason="no such limit")
@pytest.mark.parametrize(("most", "code"), [(20, 2), (48, 0)])
def test_few_open_files_are_adapted_to_or_told(
    folder: Path, ferry: Ferry, tmp_path: Path, most: int, code: int
) -> None:
    for number in range(24):
        (folder / f"note {number}.wav").write_bytes(
            (folder / "note.wav").read_bytes() + bytes(2 * number)
        )
    with ferry.sailing(tmp_path):
        file = tmp_path / "mantisreed.toml"
        file.write_text(
            file.read_text().replace("[engine.ferry]\n", "[engine.ferry]\nmax_concurrent = 200\n")
        )
        ended = subprocess.run(
            [sys.executable, "-m", "mantisreed", "run", "evenings", "--keep-silence"],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            timeout=80,
            preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_NOFILE, (most, most)),
        )
    assert ended.returncode == code, ended.stderr
    told = "only 20 files open at once" if code else "8 requests go out together, not 200"
    assert told in ended.stderr
