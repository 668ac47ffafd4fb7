"""Cards that all workspaces share."""

import json
from pathlib import Path

import platformdirs
import pytest

from conftest import Command

SHARED = """
[engine.marsh]
url = "http://marsh.example"
accepts.formats = ["wav"]
send.raw = "{audio}"
reply.text = "text"
[engine.fen]
url = "http://fen.example"
send.raw = "{audio}"
reply.text = "text"
"""


@pytest.fixture
def shared(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "home"))
    file = platformdirs.user_config_path("mantisreed") / "mantisreed.toml"
    file.parent.mkdir(parents=True)
    file.write_text(SHARED)
    return file


def engines(mantisreed: Command) -> dict[str, dict[str, str]]:
    listed = json.loads(mantisreed("engines", "--json").stdout)["engines"]
    return {facts["engine"]: facts for facts in listed}


def test_shared_cards_are_there_without_a_workspace_and_in_one(
    mantisreed: Command, shared: Path, tmp_path: Path
) -> None:
    assert set(engines(mantisreed)) == {"marsh", "fen"}
    (tmp_path / "mantisreed.toml").write_text('[engine.marsh]\naccepts.formats = ["mp3"]\n')
    found = engines(mantisreed)
    assert set(found) == {"marsh", "fen"} and found["marsh"]["takes"].startswith("mp3")
    assert str(shared) in found["fen"]["from"] or "shared" in found["fen"]["from"]
    assert found["marsh"]["from"] != found["fen"]["from"]
    shown = mantisreed("engines", "show", "marsh").stdout
    assert 'url = "http://marsh.example"' in shown and '"mp3"' in shown


def test_what_is_wrong_in_the_shared_file_is_told_with_its_name(
    mantisreed: Command, shared: Path, tmp_path: Path
) -> None:
    (tmp_path / "mantisreed.toml").write_text("")
    shared.write_text('[settings]\nengine = "marsh"\n')
    result = mantisreed("engines")
    assert (
        result.returncode == 2
        and "mantisreed.toml" in result.stderr
        and "settings" in result.stderr
    )
    shared.write_text(SHARED.replace("url =", "address =", 1))
    result = mantisreed("engines")
    assert result.returncode == 2 and "unknown key 'address'" in result.stderr
