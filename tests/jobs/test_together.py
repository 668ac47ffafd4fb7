"""Several processes change one ledger at the same moment: what one decides holds for all."""

import random
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import pytest

from jobs.conftest import JOB, Opening
from jobs.test_ledger import BILL, COST, CUT
from mantisreed.errors import SpendLimitError
from mantisreed.jobs.budget import Budget
from mantisreed.jobs.follow_ups import QuestionToAsk
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.request_rows import PieceToSend
from mantisreed.jobs.store import ownership
from mantisreed.jobs.store.database import LedgerAwayError
from mantisreed.jobs.store.postgresql import PostgresqlDatabase
from mantisreed.jobs.store.room import Room
from outages import BreakingWay
from postgres import new_database

PROCESSES = 4


def at_once(opening: Opening, change: Callable[[Ledger, int], None]) -> None:
    """Let each of several processes do the same, all from one moment on."""
    ledgers = [opening() for _ in range(PROCESSES)]
    for ledger in ledgers:
        ledger.sign_on()
    begin = threading.Barrier(PROCESSES)

    def one(number: int) -> None:
        begin.wait()
        change(ledgers[number], number)

    with ThreadPoolExecutor(PROCESSES) as threads:
        for future in [threads.submit(one, number) for number in range(PROCESSES)]:
            future.result()


def piece(key: str, job: str = JOB.id) -> PieceToSend:
    return PieceToSend(job, key, 0.0, 30.0, price=COST)


def test_one_of_all_sends_a_request_and_one_has_a_job_of_an_engine(
    opening: Opening, ledger: Ledger
) -> None:
    begun: Counter[str] = Counter()
    accepted: Counter[str] = Counter()

    def change(own: Ledger, number: int) -> None:
        for key in map(str, random.Random(number).sample(range(20), 20)):
            record = own.requests.begin(piece(key), 10)
            if record is not None:
                begun[key] += 1
                # Five of them are given the id of one job each.
                what = own.requests.accept(record, {"number": key}, str(int(key) // 5))
                accepted[f"{int(key) // 5} {what}"] += 1

    at_once(opening, change)
    assert set(begun.values()) == {1} and len(begun) == 20
    assert all(accepted[f"{mark} accepted"] == 1 for mark in range(4))


def test_an_engine_never_has_more_than_its_room_nor_its_pace(
    opening: Opening, ledger: Ledger
) -> None:
    room, on_their_way, most = Room("brook", 3), set[str](), [0]
    moments: list[float] = []
    noting = threading.Lock()

    def change(own: Ledger, number: int) -> None:
        for count in range(12):
            moment, _ = own.pace.next_turn("brook", 5, 1.0)
            key = f"{number} {count}"
            while (record := own.requests.begin(piece(key), 10, room=room)) is None:
                own.requests.room.wish(room)
                time.sleep(0.005)
            with noting:
                moments.append(moment)
                on_their_way.add(key)
                most[0] = max(most[0], len(on_their_way))
                on_their_way.discard(key)
            own.requests.answer(record, key.encode(), BILL)

    at_once(opening, change)
    assert most[0] <= 3 and len(moments) == 12 * PROCESSES
    moments.sort()
    assert all(later - first >= 1.0 for first, later in zip(moments, moments[5:], strict=False))


@contextmanager
def meanwhile(opening: Opening, first: Ledger, change: Callable[[Ledger], object]) -> Iterator[Any]:
    """What another process does while one has a change under way, which is done with the block."""
    other = opening()
    other.sign_on()
    with ThreadPoolExecutor(1) as threads:
        with first.together():
            future: list[Any] = []
            yield future
            future.append(threads.submit(change, other))
            time.sleep(0.3)
        with suppress(SpendLimitError):
            future[0].result()


def test_no_two_spend_the_last_of_a_limit(opening: Opening, ledger: Ledger) -> None:
    def begin(own: Ledger, key: str) -> object:
        budget = Budget(COST, "credits")
        budget.watch({JOB.id}, own.listing.costly_attempts({JOB.id}))
        return own.requests.begin(piece(key), 10, budgets=[budget])

    ledger.sign_on()
    with meanwhile(opening, ledger, lambda other: begin(other, "r2")) as found:
        assert begin(ledger, "r1")
    with pytest.raises(SpendLimitError):
        found[0].result()


def test_a_reply_that_somebody_keeps_is_not_removed_by_another(
    opening: Opening, ledger: Ledger
) -> None:
    ledger.jobs.open(JobToOpen("def456", "copy.wav", "sha256:1", "brook", "credits"))
    for key, job in (("r1", "def456"), ("r2", JOB.id)):
        assert ledger.requests.begin(piece(key, job), 10)
    first = ledger.requests.claim(piece("r1", "def456"))
    second = ledger.requests.claim(piece("r2"))
    assert first is not None and second is not None
    ledger.requests.answer(first, b"the same", BILL)
    # Its reply is the only one, and is to be forgotten while another request gets the same.
    with meanwhile(opening, ledger, lambda other: other.requests.forget("def456")):
        ledger.requests.answer(second, b"the same", BILL)
        ledger.now()  # all of it is sent before the other begins
    kept = ledger.requests.as_it_is(second)
    assert kept.has_reply and ledger.requests.reply(kept) == b"the same"


def test_a_job_is_not_done_whose_reply_is_taken_away_meanwhile(
    opening: Opening, ledger: Ledger
) -> None:
    record = ledger.requests.begin(piece("r1"), 10)
    assert record is not None and ledger.requests.accept(record, {"number": 7}, "7") == "accepted"
    ledger.requests.answer(ledger.requests.as_it_is(record), b"reply", BILL)
    ledger.jobs.note_made(JOB.id, '{"pieces": ["r1"]}', 30.0, is_out=False)
    ledger.jobs.open(JobToOpen("def456", "copy.wav", "sha256:1", "brook", "credits"))

    def found(other: Ledger) -> None:
        again = other.requests.begin(piece("r2", "def456"), 10)
        assert again is not None
        other.requests.end(again, "lost", CUT)
        doubtful = other.requests.as_it_is(again)
        assert other.requests.accept(doubtful, {"number": 7}, "7", is_found=True) == "accepted"

    with meanwhile(opening, ledger, found):
        ledger.jobs.note(JOB.id, "written", outcome="done")
    assert ledger.listing.job(JOB.id).state != "done"


def test_a_dead_process_is_seen_to_once_whoever_notices(
    opening: Opening, ledger: Ledger, monkeypatch: pytest.MonkeyPatch
) -> None:
    dead = opening()
    dead.sign_on()
    for count in range(10):
        assert dead.requests.begin(piece(str(count)), 10)
    gone = dead.owner
    for kind in (ownership.FileOwnership, ownership.LeaseOwnership):
        monkeypatch.setattr(kind, "is_alive", lambda _, owner: owner != gone)
    at_once(opening, lambda own, number: own.recover())
    states = [one.state for one in ledger.listing.pieces(JOB.id)]
    assert states == ["unconfirmed"] * 10


def test_a_question_and_a_follow_up_are_begun_by_one(opening: Opening, ledger: Ledger) -> None:
    asked: Counter[str] = Counter()

    def change(own: Ledger, number: int) -> None:
        for key in map(str, range(8)):
            question = QuestionToAsk(key, "godwit", JOB.id, 10, most=2)
            if own.follow_ups.ask(question) == "ask":
                asked[f"question {key}"] += 1
                own.follow_ups.answered(key, b"answer")
            if own.follow_ups.claim(key, JOB.id, "mail", also_doubtful=False) is None:
                asked[f"follow-up {key}"] += 1

    at_once(opening, change)
    assert set(asked.values()) == {1}
    assert sum(name.startswith("follow-up") for name in asked) == 8


@contextmanager
def counted(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[str]]:
    """The messages to a server, by their last statements."""
    sent: list[str] = []
    own = PostgresqlDatabase._rows

    def rows(
        self: PostgresqlDatabase, connection: object, statement: str, values: object
    ) -> object:
        sent.append(statement)
        return own(self, connection, statement, values)  # type: ignore[arg-type]

    with monkeypatch.context() as patch:
        patch.setattr(PostgresqlDatabase, "_rows", rows)
        yield sent


def test_a_step_takes_few_round_trips(
    postgresql: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ledger = Ledger(tmp_path, new_database(postgresql))
    try:
        ledger.jobs.open(JOB)
        with counted(monkeypatch) as sent:
            record = ledger.requests.begin(piece("r1"), 10, room=Room("brook", 2))
            assert record is not None and len(sent) == 3, sent
            sent.clear()
            ledger.requests.answer(record, b"reply", BILL)
            assert len(sent) == 2, sent
            sent.clear()
            ledger.jobs.note_made(JOB.id, '{"pieces": ["r1"]}', 30.0, is_out=False)
            assert len(sent) == 1, sent
            sent.clear()
            ledger.jobs.note(JOB.id, "written", outcome="done")
            assert len(sent) == 2, sent
            sent.clear()
            ledger.pace.next_turn("brook", 5, 1.0)
            assert len(sent) == 2, sent
        assert ledger.requests.reply(ledger.requests.as_it_is(record)) == b"reply"
    finally:
        ledger.close()


def test_locks_out_of_order_are_tried_and_not_waited_for(postgresql: str) -> None:
    url = new_database(postgresql)
    first, second = PostgresqlDatabase(url), PostgresqlDatabase(url)
    with first.transaction():
        first.lock("a")
        first.execute("SELECT 1")
        with second.transaction():
            second.lock("b")
            with pytest.raises(LedgerAwayError, match="others change the same"):
                second.lock("a")
            second.lock("b")  # which it has
        first.lock("b")
        first.execute("SELECT 1")
    first.close()
    second.close()


def test_a_connection_that_was_cut_between_two_changes_is_made_anew(postgresql: str) -> None:
    with BreakingWay(new_database(postgresql)).standing() as way:
        database = PostgresqlDatabase(way.url)
        database.execute("CREATE TABLE seen (number INTEGER)")
        for number in range(3):
            way.cut()
            time.sleep(0.05)
            with database.transaction():
                database.note("INSERT INTO seen VALUES (:number)", {"number": number})
                database.execute("SELECT 1")
        assert [row["number"] for row in database.execute("SELECT number FROM seen")] == [0, 1, 2]
        # So it is when nothing is asked in a change: it goes in one message.
        for number in range(3, 5):
            way.cut()
            time.sleep(0.05)
            with database.transaction():
                database.note("INSERT INTO seen VALUES (:number)", {"number": number})
        assert len(database.execute("SELECT DISTINCT number FROM seen")) == 5
        # In the middle of one it is not: what was changed before is undone.
        with pytest.raises(LedgerAwayError), database.transaction():
            database.execute("INSERT INTO seen VALUES (7)")
            way.cut()
            time.sleep(0.05)
            database.execute("INSERT INTO seen VALUES (8)")
        assert not database.execute("SELECT number FROM seen WHERE number > 6")
        database.close()
