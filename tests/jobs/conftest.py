"""Ledgers of both kinds: on SQLite, and on a PostgreSQL server that is started for the tests."""

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from postgres import new_database, postgresql

__all__ = ["postgresql"]

Opening = Callable[[], Ledger]

JOB = JobToOpen("abc123", "note.wav", "sha256:1", "brook", "credits")


@pytest.fixture(params=["sqlite", "postgresql"])
def place(request: pytest.FixtureRequest) -> str | None:
    """Where a ledger of a test's own is: None for a file in its folder."""
    if request.param == "sqlite":
        return None
    server: str = request.getfixturevalue("postgresql")
    return new_database(server)


@pytest.fixture
def opening(place: str | None, tmp_path: Path) -> Iterator[Opening]:
    """Opens the test's ledger, as one more process would."""
    opened = []

    def one_more() -> Ledger:
        opened.append(Ledger(tmp_path / ".mantisreed", place))
        return opened[-1]

    yield one_more
    for ledger in opened:
        ledger.close()


@pytest.fixture
def ledger(opening: Opening) -> Ledger:
    made = opening()
    made.jobs.open(JOB)
    return made
