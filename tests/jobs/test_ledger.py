"""The ledger: what is noted is never lost, and nothing is paid for twice."""

import os
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path

import pytest

from jobs.conftest import JOB, Opening
from mantisreed.errors import EngineBrokeError, InputError, MantisreedError
from mantisreed.jobs.budget import Budget
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.life import Event, TransitionError
from mantisreed.jobs.records import LEDGER_FILE, Filter, RequestRecord
from mantisreed.jobs.replies import ReplyLostError
from mantisreed.jobs.request_rows import Bill, PieceToSend
from mantisreed.jobs.store import ownership
from mantisreed.jobs.store.database import LedgerError

COST = Decimal("0.002")
BILL = Bill(30.0, COST)
CUT = EngineBrokeError("cut off", engine="brook")


def claimed(
    ledger: Ledger, key: str = "r1", job: str = JOB.id, *, afresh: bool = False
) -> RequestRecord:
    record = ledger.requests.claim(PieceToSend(job, key, 0.0, 30.0, price=COST), afresh=afresh)
    assert record is not None
    return record


def sent(
    ledger: Ledger, key: str = "r1", job: str = JOB.id, *, token: str | None = None
) -> RequestRecord:
    return ledger.requests.send(claimed(ledger, key, job), 1000, token=token)


def answered(ledger: Ledger, key: str = "r1", body: bytes | None = b"reply") -> RequestRecord:
    ledger.requests.answer(sent(ledger, key), body, BILL)
    return claimed(ledger, key)


def ended(ledger: Ledger, record: RequestRecord, event: Event) -> None:
    ledger.requests.end(record, event, CUT)


def taken(
    ledger: Ledger, record: RequestRecord, ticket: Mapping[str, object], mark: str
) -> RequestRecord:
    assert ledger.requests.accept(record, ticket, mark) == "accepted"
    return ledger.requests.as_it_is(record)


def another_job(ledger: Ledger, job: str = "def456") -> str:
    ledger.jobs.open(JobToOpen(job, "copy.wav", "sha256:1", "brook", "credits"))
    return job


def test_a_reply_is_kept_to_the_byte_and_taken_again_for_nothing(
    ledger: Ledger, opening: Opening
) -> None:
    body = bytes(range(256)) * 100
    assert ledger.requests.reply(answered(ledger, body=body)) == body
    other = opening()
    again = claimed(other, job=another_job(other))
    assert again.has_reply and other.requests.reply(again) == body
    assert other.listing.pieces("def456")[0].saved and ledger.listing.saved_seconds() == 30.0
    (spent,) = ledger.listing.spending()
    assert (spent.engine, spent.currency, spent.seconds, spent.cost) == (
        "brook",
        "credits",
        30.0,
        COST,
    )


def test_no_speech_is_kept_as_well(ledger: Ledger) -> None:
    record = answered(ledger, body=None)
    assert record.has_reply and ledger.requests.reply(record) is None


def test_asking_afresh_keeps_the_old_reply_until_the_new_one_is_there(ledger: Ledger) -> None:
    answered(ledger, body=b"old")
    again = ledger.requests.send(claimed(ledger, afresh=True), 10)
    assert ledger.requests.reply(claimed(ledger)) == b"old"
    ended(ledger, again, "bad request")
    assert (
        ledger.requests.reply(claimed(ledger)) == b"old"
        and ledger.listing.pieces(JOB.id)[0].state == "done"
    )
    again = ledger.requests.send(claimed(ledger, afresh=True), 10)
    ledger.requests.answer(again, b"new", BILL)
    assert ledger.requests.reply(claimed(ledger)) == b"new"
    assert ledger.listing.job("abc").cost == 2 * COST


@pytest.mark.parametrize("harm", ["changed", "gone"])
@pytest.mark.parametrize("size", [10, 300_000])
def test_a_kept_reply_that_was_harmed_is_replaced_by_a_new_one(
    tmp_path: Path, harm: str, size: int
) -> None:
    ledger = Ledger(tmp_path / ".mantisreed")
    ledger.jobs.open(JOB)
    body = bytes(size)
    record = answered(ledger, body=body)
    with sqlite3.connect(tmp_path / ".mantisreed" / LEDGER_FILE) as connection:
        connection.execute(
            "UPDATE reply SET body = x'00'" if harm == "changed" else "DELETE FROM reply"
        )
    connection.close()
    for file in (tmp_path / ".mantisreed" / "replies").rglob("*.reply"):
        file.write_bytes(b"other") if harm == "changed" else file.unlink()
    with pytest.raises(ReplyLostError, match=harm):
        ledger.requests.reply(record)
    ledger.requests.lose_reply(record)
    assert claimed(ledger).state == "waiting"
    assert ledger.requests.reply(answered(ledger, body=body)) == body
    assert ledger.listing.job("abc").cost == 2 * COST
    ledger.close()


def test_what_cannot_follow_is_refused_and_changes_nothing(ledger: Ledger) -> None:
    record = answered(ledger)
    with pytest.raises(TransitionError, match="cannot be sent"):
        ledger.requests.send(record, 10)  # it was not claimed afresh, so it is nobody's to send
    with pytest.raises(TransitionError, match="cannot be told"):
        ledger.requests.end(record, "overdue", CUT)
    assert claimed(ledger).has_reply and len(ledger.listing.pieces(JOB.id)[0].attempts) == 1


def test_a_living_process_is_left_what_it_deals_with(ledger: Ledger, opening: Opening) -> None:
    other = opening()
    piece = PieceToSend(JOB.id, "r1", 0.0, 30.0)
    record = claimed(ledger)
    other.recover()
    assert other.requests.claim(piece) is None  # also before it is sent
    with pytest.raises(TransitionError):
        other.requests.send(record, 10)
    on_its_way = ledger.requests.send(record, 10)
    other.recover()
    assert other.requests.claim(piece) is None and not other.jobs.open(JOB)
    taken(ledger, on_its_way, {"id": 7}, "7")
    assert other.requests.claim(piece) is None
    ledger.requests.release("r1")
    found = other.requests.claim(piece)
    assert found is not None and found.state == "working" and found.ticket == {"id": 7}


SENDER = """
import sys, time
from pathlib import Path
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.store import ownership
from mantisreed.jobs.requests import PieceToSend
ledger = Ledger(Path(sys.argv[1]), sys.argv[3] or None)
record = ledger.requests.claim(PieceToSend("abc123", "r1", 0.0, 30.0))
if sys.argv[2] != "claimed":
    record = ledger.requests.send(record, 1000)
if sys.argv[2] == "taken":
    ledger.requests.accept(record, {"id": "j7"}, "j7")
print("ready", flush=True)
time.sleep(60)
"""


@pytest.mark.parametrize(
    ("how_far", "state", "outcomes"),
    [
        ("claimed", "waiting", []),
        ("sent", "unconfirmed", ["unconfirmed"]),
        ("taken", "working", [None]),
    ],
)
def test_what_a_process_had_under_way_is_anybodys_once_it_was_killed(
    ledger: Ledger,
    place: str | None,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    how_far: str,
    state: str,
    outcomes: list[str | None],
) -> None:
    for name, seconds in (("_LEASE_SECONDS", 3.0), ("_GRACE_SECONDS", 0.0)):
        monkeypatch.setattr(ownership, name, seconds)
    command = [sys.executable, "-c", SENDER, str(tmp_path / ".mantisreed"), how_far, place or ""]
    piece = PieceToSend(JOB.id, "r1", 0.0, 30.0)
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None and process.stdout.readline() == "ready\n"
        ledger.recover()
        assert ledger.requests.claim(piece) is None
        # A process that sleeps for a moment, as on a laptop that was closed, is alive.
        os.kill(process.pid, signal.SIGSTOP)
        ledger.recover()
        assert ledger.requests.claim(piece) is None
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
    deadline = time.monotonic() + 10
    record = None
    while record is None and time.monotonic() < deadline:  # until its lease is over
        ledger.recover()
        record = ledger.requests.claim(piece)
        time.sleep(0.05)
    assert record is not None and record.state == state
    assert record.ticket == ({"id": "j7"} if how_far == "taken" else None)
    (found,) = ledger.listing.pieces(JOB.id)
    assert [attempt.outcome for attempt in found.attempts] == outcomes


def test_a_process_of_the_same_host_name_and_number_elsewhere_is_not_dead(
    ledger: Ledger, opening: Opening
) -> None:
    """Two containers may agree in both; only the lock tells."""
    other = opening()
    assert (
        other.owner != ledger.owner and len({other.owner, ledger.owner} & {str(os.getpid())}) == 0
    )
    sent(ledger)
    other.recover()
    assert [piece.state for piece in other.listing.pieces(JOB.id)] == ["sending"]


def test_a_failed_attempt_says_why_and_the_next_one_is_another(ledger: Ledger) -> None:
    record = sent(ledger)
    ended(ledger, record, "engine broke")
    ledger.requests.answer(ledger.requests.send(claimed(ledger), 10), b"x", Bill(30.0, None))
    (piece,) = ledger.listing.pieces(JOB.id)
    told = [(one.outcome, one.error, one.charge) for one in piece.attempts]
    assert told == [("failed", "brook: cut off", "none"), ("done", None, "sure")]
    assert ledger.listing.job("ab").cost is None and ledger.listing.job("ab").billed == 30.0


def test_any_beginning_of_an_id_finds_a_job_when_it_is_the_only_one(ledger: Ledger) -> None:
    ledger.jobs.open(JobToOpen("abd999", "other.wav", "sha256:2", "heron"))
    assert ledger.listing.job("abd").recording == "other.wav"
    for beginning, told in (("ab", "several jobs begin"), ("x%", "no job begins")):
        with pytest.raises(InputError, match=told):
            ledger.listing.job(beginning)
    assert [job.id for job in ledger.listing.jobs(Filter(engine="heron"))] == ["abd999"]
    assert [job.id for job in ledger.listing.jobs(limit=1)] == ["abd999"]


def test_an_answer_that_cannot_be_read_is_kept_and_forgotten_when_it_is_sent_again(
    ledger: Ledger,
) -> None:
    record = sent(ledger)
    ledger.requests.end(
        record, "unidentified", CUT, unread=("send", b"<odd/>"), ticket={"pool": "east"}
    )
    kept = claimed(ledger)
    assert (kept.state, kept.failure, kept.ticket) == ("failed", "unidentified", {"pool": "east"})
    assert kept.unread is not None and kept.unread[0] == "send"
    assert ledger.requests.unread_answer(kept) == b"<odd/>"
    assert ledger.listing.job("abc").maybe == COST
    assert ledger.requests.send(kept, 10).unread is None and claimed(ledger).unread is None


def test_threads_and_ledgers_at_once_lose_nothing(opening: Opening) -> None:
    ledgers = [opening() for _ in range(4)]
    ledgers[0].jobs.open(JOB)

    def work(number: int) -> None:
        own = ledgers[number % 4]
        own.requests.answer(sent(own, f"r{number}"), str(number).encode(), Bill(1.0, None))

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(work, range(60)))
    job = ledgers[1].listing.job("abc")
    assert (job.pieces, job.pieces_done, job.billed) == (60, 60, 60.0)


def test_ledgers_that_race_for_the_same_requests_send_each_once(opening: Opening) -> None:
    ledgers = [opening() for _ in range(4)]
    ledgers[0].jobs.open(JOB)
    won: list[int] = []

    def work(number: int) -> None:
        own, key = ledgers[number % 4], f"r{number // 4}"
        record = own.requests.claim(PieceToSend(JOB.id, key, 0.0, 1.0))
        if record is not None and not record.has_reply:
            record = own.requests.send(record, 1)
            won.append(number // 4)
            own.requests.answer(record, b"x", Bill(1.0, None))

    with ThreadPoolExecutor(16) as pool:
        list(pool.map(work, range(160)))
    assert sorted(won) == list(range(40))


def test_a_budget_sees_what_other_processes_have_sent_before_it_sends(
    ledger: Ledger, opening: Opening
) -> None:
    other = opening()
    budgets = []
    for own in (ledger, other):
        budget = Budget(3 * COST, "credits")
        budget.watch([JOB.id], own.listing.costly_attempts([JOB.id]))
        budgets.append(budget)
    for number, own, budget in (
        (1, ledger, budgets[0]),
        (2, other, budgets[1]),
        (3, ledger, budgets[0]),
    ):
        own.requests.send(claimed(own, f"r{number}"), 10, budgets=[budget])
    with pytest.raises(MantisreedError, match=r"over the limit of 0.0060 credits"):
        other.requests.send(claimed(other, "r4"), 10, budgets=[budgets[1]])
    assert len(ledger.listing.costly_attempts([JOB.id])) == 3


def test_the_rate_limit_is_exact_over_all_that_share_the_ledger(opening: Opening) -> None:
    ledgers = [opening() for _ in range(2)]
    turns = sorted(ledgers[n % 2].pace.next_turn("brook", 15, 60.0)[0] for n in range(60))
    assert all(later - earlier >= 60.0 for earlier, later in zip(turns, turns[15:], strict=False))
    assert turns[-1] - turns[0] <= 180.0 * 1.02 + 5
    assert ledgers[0].pace.next_turn("heron", 15, 60.0)[1] == 0.0


def test_a_clock_that_was_a_day_ahead_holds_nobody_up(
    ledger: Ledger, place: str | None, tmp_path: Path
) -> None:
    if place is not None:
        pytest.skip("the server's clock is the only one")
    now = ledger.pace.next_turn("brook", 1, 60.0)[0]
    with sqlite3.connect(tmp_path / ".mantisreed" / LEDGER_FILE) as connection:
        connection.execute("UPDATE start SET moment = ?, noted = ?", (now + 86400, now + 86400))
    connection.close()
    assert ledger.pace.next_turn("brook", 1, 60.0)[1] == 0.0


def test_a_ledger_that_cannot_be_used_is_told_in_one_line(tmp_path: Path) -> None:
    Ledger(tmp_path / ".mantisreed").close()
    with sqlite3.connect(tmp_path / ".mantisreed" / LEDGER_FILE) as connection:
        connection.execute("UPDATE ledger SET version = 99, readable_from = 99")
        before = list(connection.iterdump())
    connection.close()
    with pytest.raises(LedgerError, match="of version 99"):
        Ledger(tmp_path / ".mantisreed")
    with sqlite3.connect(tmp_path / ".mantisreed" / LEDGER_FILE) as connection:
        assert list(connection.iterdump()) == before
    connection.close()
    (tmp_path / "other" / ".mantisreed").mkdir(parents=True)
    (tmp_path / "other" / ".mantisreed" / LEDGER_FILE).write_text(
        "no database at all, though long enough to be one" * 40
    )
    with pytest.raises(LedgerError, match="cannot be used"):
        Ledger(tmp_path / "other" / ".mantisreed")


def test_pages_list_every_job_once_also_those_that_were_begun_at_one_moment(
    ledger: Ledger, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("mantisreed.jobs.listing._PAGE", 3)
    with ledger.together():  # the clock of a transaction stands still in PostgreSQL
        for number in range(8):
            ledger.jobs.open(JobToOpen(f"job{number}", f"{number}.wav", f"sha256:{number}", "pond"))
    chosen = Filter(engine="pond")
    pages = list(ledger.listing.pages(chosen))
    assert [len(page) for page in pages] == [3, 3, 2]
    # What it takes to do a job again is more than all the rest, and no list shows it.
    assert "options" not in pages[0][0].__struct_fields__
    listed = [job.id for page in pages for job in page]
    assert sorted(listed) == [f"job{number}" for number in range(8)]
    assert [job.id for job in ledger.listing.jobs(chosen, limit=4)] == listed[:4]
    assert [job.id for job in ledger.listing.jobs(Filter(digest="sha256:5"))] == ["job5"]
    reading = ledger.listing.pages(chosen)
    first = [job.id for job in next(reading)]
    # What begins meanwhile moves nothing.
    ledger.jobs.open(JobToOpen("newer", "newer.wav", "sha256:n", "pond"))
    assert [*first, *(job.id for page in reading for job in page)] == listed
