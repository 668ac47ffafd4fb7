"""Outputs that go into a storage."""

import json
from pathlib import Path

import pytest
from starlette.responses import Response
from starlette.types import ASGIApp, Receive, Scope, Send

from cli.ferry import Ferry
from conftest import Command
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.server import bound_socket, serving
from mantisreed.standin.store import ObjectStore


@pytest.fixture
def sound(english: list[Phrase], tmp_path: Path) -> Path:
    path = tmp_path / "note.flac"
    compose(english, seed=4, duration=8).write(path)
    return path


def keys(url: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Let addresses of object storage lead to a server."""
    pytest.importorskip("s3fs")
    from fsspec.config import conf

    known = {"endpoint_url": url, "key": "marsh-key", "secret": "marsh-secret"}
    monkeypatch.setitem(conf, "s3", known)


def test_outputs_are_written_into_a_storage_and_never_over_what_others_made(
    mantisreed: Command,
    ferry: Ferry,
    sound: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    store = ObjectStore()
    store.put("marsh/kept/readme.txt", b"not ours")
    with ferry.sailing(tmp_path), serving(store.application(), bound_socket(0)) as url:
        keys(url, monkeypatch)
        run = mantisreed("run", sound, "--to", "txt,srt", "--into", "s3://marsh/out/")
        assert run.returncode == 0, run.stderr
        assert "files are in s3://marsh/out" in run.stderr
        assert {name for name in store.objects if "/out/" in name} == {
            "marsh/out/note.txt",
            "marsh/out/note.srt",
        }
        assert b"-->" in store.objects["marsh/out/note.srt"].content
        assert not (tmp_path / "s3:").exists()
        # Somebody else's file is neither written over nor paid for.
        store.put("marsh/kept/note.txt", b"by hand")
        before = sum(ferry.asked.values())
        kept = mantisreed("run", sound, "--to", "txt", "--into", "s3://marsh/kept", "--afresh")
        assert kept.returncode == 1 and "s3://marsh/kept/note.txt: was edited" in kept.stderr
        assert sum(ferry.asked.values()) == before
        assert store.objects["marsh/kept/note.txt"].content == b"by hand"
        over = mantisreed("run", sound, "--to", "txt", "--into", "s3://marsh/kept", "--overwrite")
        assert over.returncode == 0 and store.objects["marsh/kept/note.txt"].content != b"by hand"
        # What is forgotten is gone there too; what others made stays.
        (job,) = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
        assert mantisreed("forget", "--yes", job["id"], "--outputs").returncode == 0
        assert "marsh/kept/note.txt" not in store.objects
        assert "marsh/kept/readme.txt" in store.objects


class ReadOnly:
    """Lets nobody write into an object store."""

    def __init__(self, application: ASGIApp) -> None:
        self._application = application

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http" and scope["method"] == "PUT":
            await Response(status_code=403)(scope, receive, send)
        else:
            await self._application(scope, receive, send)


def test_outputs_that_could_not_be_stored_are_stored_by_the_next_command(
    mantisreed: Command,
    ferry: Ferry,
    sound: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    store = ObjectStore()
    store.put("marsh/readme.txt", b"")
    with ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        into = '[settings]\ninto = "s3://marsh/out"\n'
        settings.write_text(settings.read_text().replace("[settings]\n", into))
        closed = store.application()
        closed.add_middleware(ReadOnly)
        with serving(closed, bound_socket(0)) as url:
            keys(url, monkeypatch)
            refused = mantisreed("run", sound, "--to", "txt")
            assert refused.returncode == 1
            assert "s3://marsh/out/note.txt: cannot be written" in refused.stderr
        with serving(store.application(), bound_socket(0)) as url:
            keys(url, monkeypatch)
            retried = mantisreed("retry")
            assert retried.returncode == 0, retried.stderr
        # A storage that is away is told before anything is sent.
        away = mantisreed("run", sound, "--to", "srt", "--afresh")
        assert away.returncode != 0 and "s3://marsh/out" in away.stderr
    assert "marsh/out/note.txt" in store.objects and sum(ferry.asked.values()) == 1
