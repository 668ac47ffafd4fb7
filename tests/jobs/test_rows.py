"""Rows in tables of SQLite and of a real PostgreSQL: made if need be, one for each result, in words
what is wrong.
"""

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
import sqlalchemy as sa

from jobs.conftest import Opening
from mantisreed.cards.paths import ReplyPath
from mantisreed.destinations.actions import Rows
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.destinations.rows import add_row
from mantisreed.errors import InputError
from mantisreed.jobs.follow_ups import FollowUpEnd, QuestionToAsk
from mantisreed.sources.database_tables import database_url

COLUMNS = {
    "recording": ReplyPath("recording"),
    "words": ReplyPath("words"),
    "tone": ReplyPath("follow_up.tone"),
}


def parcel(number: int) -> Parcel:
    return Parcel(
        f"{number:032x}"[::-1],
        {
            "recording": f"note {number}.wav",
            "words": number,
            "follow_up": {"tone": ["calm", "glad"]},
        },
    )


def found(address: str, folder: Path, table: str = "notes") -> list[tuple[object, ...]]:
    engine = sa.create_engine(database_url(address, folder, None), poolclass=sa.NullPool)
    with engine.connect() as connection:
        return [
            tuple(row)
            for row in connection.execute(sa.text(f"SELECT recording, words, tone FROM {table}"))
        ]


def test_each_result_has_one_row_however_often_and_by_whomever_it_is_delivered(
    place: str | None, tmp_path: Path
) -> None:
    address = place or "sqlite:///notes.sqlite"
    rows = Rows(database=address, table="notes", columns=COLUMNS)
    add_row(rows, parcel(0), tmp_path, None)
    with ThreadPoolExecutor(8) as pool:
        list(pool.map(lambda number: add_row(rows, parcel(number % 5), tmp_path, None), range(40)))
    assert sorted(found(address, tmp_path)) == [
        (f"note {n}.wav", float(n), "calm; glad") for n in range(5)
    ]
    with pytest.raises(InputError, match="has no column 'other'"):
        add_row(
            Rows(database=address, table="notes", columns={"other": ReplyPath("words")}),
            parcel(9),
            tmp_path,
            None,
        )


def test_a_database_that_is_away_is_told_without_its_password(tmp_path: Path) -> None:
    rows = Rows(database="postgresql://marsh@127.0.0.1:9/none", columns=COLUMNS)
    with pytest.raises(DeliveryError, match="cannot be written") as told:
        add_row(rows, parcel(1), tmp_path, None)
    assert told.value.may_pass


def test_a_table_that_cannot_be_written_is_told(tmp_path: Path) -> None:
    (tmp_path / "taken").mkdir()
    for file in ("taken", "/dev/full"):
        with pytest.raises((DeliveryError, InputError)):
            add_row(Rows(file=file, columns=COLUMNS), parcel(1), tmp_path, None)


def test_the_ledger_keeps_follow_ups_and_questions_in_both_databases(opening: Opening) -> None:
    ledger = opening()
    store = ledger.follow_ups
    assert store.claim("f1", "job1", "tone", also_doubtful=False) is None
    other = opening().follow_ups
    met = other.claim("f1", "job1", "tone", also_doubtful=True)
    assert met is not None and met.state == "working"  # it is another process's
    store.end("f1", FollowUpEnd("done", None, {"kind": "text"}, b"calm", 4))
    again = other.claim("f1", "job1", "tone", also_doubtful=True)
    assert again is not None and other.body(again) == b"calm"
    question = QuestionToAsk("q1", "judge", "job1", 4)
    assert store.ask(question) == "ask" and other.ask(question) == "another"
    store.answered("q1", b"an answer")
    assert other.ask(question) == b"an answer" and other.spending("day")[0].characters == 4
    store.claim("f2", "job1", "mail", also_doubtful=False)
    ledger.close()  # as a process that ends in the middle
    left = other.claim("f2", "job1", "mail", also_doubtful=False)
    assert left is not None and left.state == "unconfirmed" and other.open_jobs() == {"job1"}
    assert other.claim("f2", "job1", "mail", also_doubtful=True) is None
