"""Requests at once are limited over all processes, and each of them has its turn."""

import time

import pytest

from browser import wait_until
from jobs.conftest import JOB, Opening
from mantisreed.errors import EngineBrokeError
from mantisreed.jobs.follow_ups import QuestionToAsk
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.request_rows import Bill, PieceToSend
from mantisreed.jobs.store import room as rooms
from mantisreed.jobs.store.room import Room

TWO = Room("brook", 2)


def begun(ledger: Ledger, key: str, room: Room = TWO) -> bool:
    """Whether a new request leaves at once."""
    return ledger.requests.begin(PieceToSend(JOB.id, key, 0.0, 30.0), 10, room=room) is not None


def answered(ledger: Ledger, key: str) -> None:
    record = ledger.requests.claim(PieceToSend(JOB.id, key, 0.0, 30.0))
    assert record is not None
    ledger.requests.answer(record, b"reply", Bill(30.0, None))


@pytest.fixture
def two(opening: Opening) -> tuple[Ledger, Ledger]:
    first, second = opening(), opening()
    first.jobs.open(JOB)
    second.sign_on()
    return first, second


def test_a_place_is_taken_until_its_request_is_answered_or_fails(
    two: tuple[Ledger, Ledger],
) -> None:
    first, second = two
    assert begun(first, "r1") and begun(second, "r2")
    assert not begun(first, "r3") and not begun(second, "r4")
    assert begun(first, "other engine", Room("heron", 2))
    answered(first, "r1")
    assert begun(second, "r4") and not begun(second, "r5")
    record = second.requests.claim(PieceToSend(JOB.id, "r2", 0.0, 30.0))
    assert record is not None
    second.requests.end(record, "engine broke", EngineBrokeError("cut", engine="brook"))
    assert begun(first, "r6")


def test_a_request_that_is_taken_as_a_job_takes_no_place(two: tuple[Ledger, Ledger]) -> None:
    first, second = two
    assert begun(first, "r1") and begun(first, "r2")
    record = first.requests.claim(PieceToSend(JOB.id, "r1", 0.0, 30.0))
    assert record is not None
    assert first.requests.accept(record, {"number": 7}, "7") == "accepted"
    assert begun(second, "r3")


def test_whoever_waits_longest_comes_first(two: tuple[Ledger, Ledger]) -> None:
    first, second = two
    assert begun(first, "r1") and begun(first, "r2")
    assert not second.requests.room.wish(TWO)
    answered(first, "r1")
    # The first has more to send and is quicker; still it is the second's turn.
    assert not begun(first, "r3") and not first.requests.room.wish(TWO)
    assert second.requests.room.wish(TWO) and begun(second, "r4")
    answered(first, "r2")
    assert begun(first, "r3")


def test_a_wish_that_is_not_repeated_holds_nobody_up(
    two: tuple[Ledger, Ledger], monkeypatch: pytest.MonkeyPatch
) -> None:
    first, second = two
    assert begun(first, "r1") and begun(first, "r2")
    monkeypatch.setattr(rooms, "_WISH_SECONDS", 0.05)
    assert not second.requests.room.wish(TWO)
    answered(first, "r1")
    time.sleep(0.06)
    assert begun(first, "r3")


def test_what_a_process_leaves_takes_no_place(opening: Opening, two: tuple[Ledger, Ledger]) -> None:
    first, second = two
    assert begun(second, "r1") and begun(second, "r2") and not begun(first, "r3")
    second.close()
    first.recover()
    assert begun(first, "r3")


def test_questions_at_once_are_limited_over_all_processes(two: tuple[Ledger, Ledger]) -> None:
    first, second = two
    questions = [QuestionToAsk(f"q{number}", "heron", JOB.id, 4, most=2) for number in range(3)]
    assert [first.follow_ups.ask(question) for question in questions[:2]] == ["ask", "ask"]
    assert second.follow_ups.ask(questions[2]) == "another"
    first.follow_ups.answered("q0", b"tide")
    assert second.follow_ups.ask(questions[2]) == "ask"


def test_whoever_waits_longest_is_told_of_a_place_where_the_database_can(
    two: tuple[Ledger, Ledger],
) -> None:
    first, second = two
    told: dict[str, list[str]] = {"first": [], "second": []}
    first.on_notice(told["first"].append)
    second.on_notice(told["second"].append)
    if not first._database.has_notices:
        assert not first.is_listening
        return
    wait_until(lambda: first.is_listening and second.is_listening, 10.0)
    assert begun(first, "r1") and begun(first, "r2")
    answered(first, "r1")  # nobody waits, and nobody is told
    assert begun(first, "r3") and not second.requests.room.wish(TWO)
    answered(first, "r2")
    wait_until(lambda: bool(told["second"]))
    assert not told["first"]
    assert second.requests.room.wish(TWO) and begun(second, "r4")
    # It hears again after its connection was cut.
    sessions = len(_others(second))
    second._database.execute(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
        "WHERE datname = current_database() AND pid <> pg_backend_pid()"
    )
    cut = _others(second)
    wait_until(lambda: bool(first.listing.count()) and len(_others(second) - cut) == sessions)
    assert not second.requests.room.wish(TWO)
    told["second"].clear()
    answered(first, "r3")
    wait_until(lambda: bool(told["second"]))


def _others(ledger: Ledger) -> set[int]:
    """The sessions at its database but its own."""
    rows = ledger._database.execute(
        "SELECT pid FROM pg_stat_activity "
        "WHERE datname = current_database() AND pid <> pg_backend_pid()"
    )
    return {row["pid"] for row in rows}
