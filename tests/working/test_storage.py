"""Machines that share nothing but the ledger and a storage."""

from pathlib import Path

import pytest

from cli.ferry import Ferry
from cli.test_stored_outputs import keys
from conftest import Command
from mantisreed.standin.server import bound_socket, serving
from mantisreed.standin.store import ObjectStore


def test_another_machine_works_on_what_is_in_a_storage_and_writes_there(
    workspace: Path,
    notes: Path,
    ferry: Ferry,
    mantisreed: Command,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    store = ObjectStore()
    for note in sorted(notes.iterdir())[:3]:
        store.put(f"marsh/in/{note.name}", note.read_bytes())
    other = tmp_path / "other"
    other.mkdir()
    (other / "mantisreed.toml").write_text(workspace.read_text())
    elsewhere = ("--config", str(other / "mantisreed.toml"))
    with serving(store.application(), bound_socket(0)) as url:
        keys(url, monkeypatch)
        queued = ("submit", "s3://marsh/in/", "--queue", "--into", "s3://marsh/out")
        ended = mantisreed(*queued)
        assert ended.returncode == 0 and "3 recordings queued" in ended.stderr, ended.stderr
        with monkeypatch.context() as patch:
            patch.setattr("mantisreed.state.this_machine", lambda: "another machine")
            worked = mantisreed("work", "--until-idle", "1s", *elsewhere)
        assert "3 done, 0 failed" in worked.stderr, worked.stderr
        written = {name for name in store.objects if "/out/" in name}
        assert {f"marsh/out/note {number}.txt" for number in range(3)} <= written
        assert set(ferry.answered.values()) == {1}
        again = mantisreed(*queued)
        assert "0 recordings queued" in again.stderr and "3 done before" in again.stderr
