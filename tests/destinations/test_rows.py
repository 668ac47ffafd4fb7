"""Rows in tables, with everything against them: other writers, a full disk, a stop in the middle of
a row.
"""

import csv
import errno
import os
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psycopg
import pytest

from mantisreed.cards.paths import ReplyPath
from mantisreed.destinations.actions import Rows
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.destinations.rows import add_row
from postgres import new_database, postgresql

__all__ = ["postgresql"]

COLUMNS = {"recording": "recording", "words": "words"}


def table(**place: str) -> Rows:
    return Rows(columns={name: ReplyPath(path) for name, path in COLUMNS.items()}, **place)  # type: ignore[arg-type]


def parcel(number: int) -> Parcel:
    return Parcel(f"{number:032x}"[::-1], {"recording": f"note {number}", "words": number}, [])


def in_file(path: Path) -> list[dict[str, str]]:
    with path.open(newline="") as source:
        return list(csv.DictReader(source))


@pytest.mark.parametrize("kind", ["postgresql", "sqlite"])
def test_the_first_rows_of_a_run_make_the_table_once_and_none_is_lost(
    kind: str, tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    if kind == "postgresql":
        database = new_database(request.getfixturevalue("postgresql"))
    else:
        database = "sqlite:///notes.sqlite"
    rules = table(database=database, table="notes")
    with ThreadPoolExecutor(12) as pool:
        list(pool.map(lambda number: add_row(rules, parcel(number), tmp_path, None), range(40)))
        list(pool.map(lambda number: add_row(rules, parcel(number), tmp_path, None), range(40)))
    if kind == "postgresql":
        with psycopg.connect(database) as connection:
            found = connection.execute(
                "SELECT count(*), count(DISTINCT words) FROM notes"
            ).fetchone()
        assert found == (40, 40)


def test_a_database_that_is_away_is_worth_another_try(tmp_path: Path) -> None:
    rules = table(database="postgresql://marsh@127.0.0.1:9/notes", table="notes")
    with pytest.raises(DeliveryError) as caught:
        add_row(rules, parcel(1), tmp_path, None)
    assert caught.value.may_pass


def test_a_full_disk_leaves_no_part_of_a_row(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rules = table(file="notes.csv")
    add_row(rules, parcel(1), tmp_path, None)
    before = (tmp_path / "notes.csv").read_bytes()

    def full(descriptor: int) -> None:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    with monkeypatch.context() as patch:
        patch.setattr(os, "fsync", full)
        with pytest.raises(DeliveryError, match="no space left"):
            add_row(rules, parcel(2), tmp_path, None)
    assert (tmp_path / "notes.csv").read_bytes() == before
    add_row(rules, parcel(2), tmp_path, None)
    assert [row["recording"] for row in in_file(tmp_path / "notes.csv")] == ["note 1", "note 2"]


@pytest.mark.parametrize("kept", range(1, 26))
def test_a_row_that_was_begun_is_written_whole(tmp_path: Path, kept: int) -> None:
    rules = table(file="notes.csv")
    add_row(rules, parcel(1), tmp_path, None)
    one = (tmp_path / "notes.csv").read_bytes()
    add_row(rules, parcel(2), tmp_path, None)
    both = (tmp_path / "notes.csv").read_bytes()
    (tmp_path / "notes.csv").write_bytes(both[: min(len(one) + kept, len(both) - 1)])
    add_row(rules, parcel(2), tmp_path, None)
    add_row(rules, parcel(3), tmp_path, None)
    assert [row["recording"] for row in in_file(tmp_path / "notes.csv")] == [
        "note 1",
        "note 2",
        "note 3",
    ]


def test_a_whole_row_without_an_end_of_line_stays(tmp_path: Path) -> None:
    rules = table(file="notes.csv")
    for number in (1, 2):
        add_row(rules, parcel(number), tmp_path, None)
    (tmp_path / "notes.csv").write_bytes((tmp_path / "notes.csv").read_bytes().rstrip(b"\r\n"))
    add_row(rules, parcel(3), tmp_path, None)
    assert [row["recording"] for row in in_file(tmp_path / "notes.csv")] == [
        "note 1",
        "note 2",
        "note 3",
    ]
