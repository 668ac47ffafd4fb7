"""What the tests of workers need: a workspace whose ledger is a PostgreSQL database."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from cli.ferry import Ferry
from cli.test_stored_outputs import keys
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.server import bound_socket, serving
from mantisreed.standin.store import ObjectStore
from outages import BreakingWay
from postgres import new_database, postgresql

__all__ = ["postgresql"]


@pytest.fixture
def ferry() -> Ferry:
    return Ferry()


@pytest.fixture
def way(postgresql: str) -> Iterator[BreakingWay]:
    """A way to a new database that breaks when it is told to."""
    with BreakingWay(new_database(postgresql)).standing() as way:
        yield way


@pytest.fixture
def workspace(ferry: Ferry, way: BreakingWay, tmp_path: Path) -> Iterator[Path]:
    with ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(f'{settings.read_text()}\n[ledger]\nurl = "{way.url}"\n')
        yield settings


@pytest.fixture
def notes(english: list[Phrase], tmp_path: Path) -> Path:
    """Six short recordings, two of which are the same."""
    folder = tmp_path / "notes"
    folder.mkdir()
    for number in range(5):
        compose(english, seed=700 + number, duration=8).write(folder / f"note {number}.flac")
    (folder / "note 5.flac").write_bytes((folder / "note 0.flac").read_bytes())
    return folder


@contextmanager
def storing(workspace: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[ObjectStore]:
    """A storage in the settings, for the commands in this process and for those in their own."""
    store = ObjectStore()
    store.put("marsh/readme.txt", b"not ours")
    workspace.write_text(f'{workspace.read_text()}\n[storage]\nurl = "s3://marsh/shared/"\n')
    with serving(store.application(), bound_socket(0)) as url:
        keys(url, monkeypatch)
        for name, value in {"ENDPOINT_URL": url, "KEY": "marsh", "SECRET": "marsh-secret"}.items():
            monkeypatch.setenv(f"FSSPEC_S3_{name}", value)
        yield store


def on_another_machine(workspace: Path) -> tuple[str, str]:
    """The option for the same settings, as they are now, in a folder of another machine."""
    other = workspace.parent / "other"
    other.mkdir()
    (other / workspace.name).write_text(workspace.read_text())
    return "--config", str(other / workspace.name)
