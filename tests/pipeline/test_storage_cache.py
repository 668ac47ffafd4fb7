"""What a machine keeps of the recordings in a shared storage."""

import asyncio
import os
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from cli.test_stored_outputs import keys
from mantisreed.errors import SettingsError
from mantisreed.pipeline.incoming.storage_cache import StorageCache
from mantisreed.sources.recordings import Source
from mantisreed.standin.server import bound_socket, serving
from mantisreed.standin.store import ObjectStore
from mantisreed.workspace import open_workspace

ADDRESS = "s3://marsh/shared"
KEPT = ".mantisreed/storage"


@pytest.fixture
def store(monkeypatch: pytest.MonkeyPatch) -> Iterator[ObjectStore]:
    store = ObjectStore()
    for name in ("recordings/1a/note.wav", "recordings/2b/note.wav", "in/note.wav"):
        store.put(f"marsh/shared/{name}", name.encode() * 100)
    with serving(store.application(), bound_socket(0)) as url:
        keys(url, monkeypatch)
        yield store


def content(cache: StorageCache, name: str, folder: Path) -> bytes:
    """The content of a recording as the cache gives it."""

    async def read() -> bytes:
        recording = Source(Path("note.wav"), f"{ADDRESS}/{name}")
        async with cache.file(recording, folder) as path:
            cache.tidy()  # nobody who uses a file loses it
            return path.read_bytes()

    return asyncio.run(read())


def test_a_recording_is_fetched_once_as_long_as_there_is_room(
    store: ObjectStore, tmp_path: Path
) -> None:
    cache = StorageCache(ADDRESS, tmp_path / KEPT, 5000)
    first = content(cache, "recordings/1a/note.wav", tmp_path)
    store.objects.pop("marsh/shared/recordings/1a/note.wav")
    assert content(cache, "recordings/1a/note.wav", tmp_path) == first
    # The next one does not fit beside it: the older one goes.
    os.utime(next((tmp_path / KEPT).iterdir()), (time.time() - 60,) * 2)
    cache = StorageCache(ADDRESS, tmp_path / KEPT, 3000)
    assert content(cache, "recordings/2b/note.wav", tmp_path).startswith(b"recordings/2b")
    assert len(list((tmp_path / KEPT).iterdir())) == 1
    store.objects.pop("marsh/shared/recordings/2b/note.wav")
    assert content(cache, "recordings/2b/note.wav", tmp_path).startswith(b"recordings/2b")


def test_what_is_not_used_for_a_day_and_what_is_forgotten_goes(
    store: ObjectStore, tmp_path: Path
) -> None:
    cache = StorageCache(ADDRESS, tmp_path / KEPT, 5000)
    for name in ("1a", "2b"):
        content(cache, f"recordings/{name}/note.wav", tmp_path)
    cache.forget(Source(Path("note.wav"), f"{ADDRESS}/recordings/2b/note.wav"))
    (left,) = (tmp_path / KEPT).iterdir()
    os.utime(left, (time.time() - 90000,) * 2)
    cache.tidy()
    assert not list((tmp_path / KEPT).iterdir())


def test_nothing_is_kept_that_may_change_or_that_has_no_room(
    store: ObjectStore, tmp_path: Path
) -> None:
    for most, name in ((5000, "in/note.wav"), (0, "recordings/1a/note.wav")):
        cache = StorageCache(ADDRESS, tmp_path / KEPT, most)
        assert content(cache, name, tmp_path).startswith(name.encode())
        assert not (tmp_path / KEPT).exists()
    content(StorageCache(ADDRESS, tmp_path / KEPT, 100), "recordings/1a/note.wav", tmp_path)
    assert not (tmp_path / KEPT).exists()


def test_the_settings_say_how_much(tmp_path: Path) -> None:
    settings = tmp_path / "mantisreed.toml"
    settings.write_text(f'[storage]\nurl = "{ADDRESS}"\ncache = "a lot"\n')
    with pytest.raises(SettingsError, match="expected a size such as 2 GiB"):
        open_workspace(str(settings))
    settings.write_text("")
    assert StorageCache.of(open_workspace(str(settings))) is None
