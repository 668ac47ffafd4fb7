"""What the tests of workers need: a workspace whose ledger is a PostgreSQL database."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from cli.ferry import Ferry
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
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
