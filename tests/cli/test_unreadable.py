"""Replies that cannot be read: kept, marked, read again when the card changes, and asked for anew
by `retry`.
"""

import json
from pathlib import Path

import pytest

from cli.ferry import Ferry
from conftest import Command, Note
from mantisreed.engines import asking


@pytest.fixture
def spoiled(tmp_path: Path, note: Note, mantisreed: Command, ferry: Ferry) -> Path:
    """A workspace whose card looks for text in the wrong place, after one run."""
    (tmp_path / "note.wav").write_bytes(note.path.read_bytes())
    with ferry.sailing(tmp_path):
        file = tmp_path / "mantisreed.toml"
        file.write_text(file.read_text().replace('text = "says"', 'text = "said"', 1))
        assert mantisreed("run", "note.wav").returncode == 1
        assert sum(ferry.asked.values()) == 1
    return file


def test_a_marked_reply_is_not_interpreted_again_until_the_card_changes(
    spoiled: Path, mantisreed: Command, ferry: Ferry, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = spoiled.parent
    wrong = spoiled.read_text()
    assert len(list((folder / ".mantisreed" / "unreadable").iterdir())) == 2
    with monkeypatch.context() as patch:
        patch.setattr(asking, "read_reply", lambda *_: pytest.fail("it was interpreted again"))
        ended = mantisreed("run", "note.wav")
    assert ended.returncode == 1 and "reply.text (said) finds nothing" in ended.stderr
    assert "`mantisreed retry` asks for another one" in ended.stderr
    spoiled.write_text(wrong.replace('text = "said"', 'text = "says"'))
    assert mantisreed("run", "note.wav").returncode == 0
    assert sum(ferry.asked.values()) == 1, "the kept reply was read, and nothing paid"


def test_retry_asks_for_another_reply(
    tmp_path: Path, note: Note, mantisreed: Command, ferry: Ferry
) -> None:
    (tmp_path / "note.wav").write_bytes(note.path.read_bytes())
    ferry.faults = ["html"]
    with ferry.sailing(tmp_path):
        assert mantisreed("run", "note.wav").returncode == 1
        assert mantisreed("run", "note.wav").returncode == 1
        assert sum(ferry.asked.values()) == 1
        assert mantisreed("retry").returncode == 0
        assert sum(ferry.asked.values()) == 2
        assert mantisreed("run", "note.wav").returncode == 0
    assert json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["state"] == "done"
