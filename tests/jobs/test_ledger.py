"""The ledger: what is noted is never lost, and nothing is paid for twice."""

import os
import signal
import sqlite3
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path

import pytest
import sqlalchemy as sql

from jobs.conftest import Opening
from mantisreed.errors import EngineBrokeError, InputError
from mantisreed.jobs.database import LedgerError
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.records import LEDGER_FILE, Filter, PieceRecord
from mantisreed.jobs.states import FOLLOWING, TransitionError, check_transition


def claimed(ledger: Ledger, request: str = "r1", job: str = "abc123", *, afresh: bool = False) -> PieceRecord:
    record = ledger.claim(job, request, 0.0, 30.0, None, afresh=afresh)
    assert record is not None
    return record


def finished(ledger: Ledger, request: str = "r1", body: bytes | None = b"reply") -> PieceRecord:
    record = claimed(ledger, request)
    ledger.send(record, 1000)
    ledger.finish(record, body, billed=30.0, cost=Decimal("0.002"))
    return claimed(ledger, request)


def test_a_reply_is_kept_to_the_byte_and_taken_again_for_nothing(ledger: Ledger, opening: Opening) -> None:
    body = bytes(range(256)) * 100
    assert ledger.reply(finished(ledger, body=body)) == body
    ledger.open_job("def456", "copy.wav", "sha256:1", "brook", "shells")
    again = claimed(opening(), job="def456")
    assert again.state == "done" and again.saved and ledger.reply(again) == body
    assert ledger.listing.saved_seconds() == 30.0
    assert [(row[1:3], row[3:]) for row in ledger.listing.spending()] == [
        (("brook", "shells"), (30.0, Decimal("0.002")))
    ]
    assert claimed(ledger, afresh=True).state == "waiting"


def test_nothing_heard_is_kept_as_well(ledger: Ledger) -> None:
    assert ledger.reply(finished(ledger, body=None)) is None


def test_a_reply_whose_file_was_changed_or_is_gone_is_not_taken(ledger: Ledger, tmp_path: Path) -> None:
    record = finished(ledger, body=bytes(300_000))
    (file,) = (tmp_path / "replies").rglob("*.reply")
    file.write_bytes(b"other")
    with pytest.raises(LedgerError, match="was changed"):
        ledger.reply(record)
    file.unlink()
    with pytest.raises(LedgerError, match="is gone"):
        ledger.reply(record)


def test_a_reply_that_was_changed_in_the_database_is_not_taken(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path)
    ledger.open_job("abc123", "note.wav", "sha256:1", "brook", "shells")
    record = finished(ledger)
    with sqlite3.connect(tmp_path / LEDGER_FILE) as connection:
        connection.execute("UPDATE reply SET body = x'00'")
    with pytest.raises(LedgerError, match="was changed"):
        ledger.reply(record)


def test_only_listed_transitions_are_made(ledger: Ledger) -> None:
    record = finished(ledger)
    with pytest.raises(TransitionError, match="done cannot become sending"):
        ledger.send(record, 10)
    assert claimed(ledger).state == "done" and len(ledger.listing.pieces("abc123")[0].attempts) == 1
    for before, following in FOLLOWING.items():
        for after in FOLLOWING:
            if after in following or after == before:
                check_transition(before, after)
            else:
                with pytest.raises(TransitionError):
                    check_transition(before, after)


SENDER = """
import sys, time
import sqlalchemy
from pathlib import Path
from mantisreed.jobs.ledger import Ledger
ledger = Ledger(Path(sys.argv[1]), sqlalchemy.make_url(sys.argv[3]) if sys.argv[3] else None)
ledger.beat()
record = ledger.claim("abc123", "r1", 0.0, 30.0, None)
ledger.send(record, 1000)
if sys.argv[2] == "taken":
    ledger.take(record, {"id": "j7"})
print("ready", flush=True)
time.sleep(60)
"""


@pytest.mark.parametrize(("how_far", "state"), [("sent", "in doubt"), ("taken", "working")])
def test_what_a_process_had_under_way_is_left_to_it_until_it_dies(
    ledger: Ledger, place: sql.URL | None, tmp_path: Path, how_far: str, state: str
) -> None:
    address = "" if place is None else place.render_as_string(hide_password=False)
    command = [sys.executable, "-c", SENDER, str(tmp_path), how_far, address]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None and process.stdout.readline() == "ready\n"
        assert ledger.claim("abc123", "r1", 0.0, 30.0, None) is None
        os.kill(process.pid, signal.SIGKILL)
    record = claimed(ledger)
    assert record.state == state
    assert record.ticket == ({"id": "j7"} if how_far == "taken" else None)
    assert (ledger.listing.pieces("abc123")[0].attempts[0].outcome == "in doubt") == (state == "in doubt")


def test_a_failed_attempt_says_why_and_the_next_one_is_another(ledger: Ledger) -> None:
    record = claimed(ledger)
    ledger.send(record, 1000)
    ledger.fail(record, "waiting", EngineBrokeError("it broke", engine="brook"), outcome="failed")
    ledger.send(record, 1000)
    ledger.finish(record, b"x", billed=30.0, cost=None)
    (piece,) = ledger.listing.pieces("abc123")
    assert [(one.outcome, one.error) for one in piece.attempts] == [("failed", "brook: it broke"), ("done", None)]
    assert ledger.listing.job("ab").cost is None and ledger.listing.job("ab").billed == 30.0


def test_any_beginning_of_an_id_finds_a_job_when_it_is_the_only_one(ledger: Ledger) -> None:
    ledger.open_job("abd999", "other.wav", "sha256:2", "heron", None)
    assert ledger.listing.job("abd").recording == "other.wav"
    for beginning, told in (("ab", "several jobs begin"), ("x%", "no job begins")):
        with pytest.raises(InputError, match=told):
            ledger.listing.job(beginning)
    assert [job.id for job in ledger.listing.jobs(Filter(engine="heron"))] == ["abd999"]
    assert [job.id for job in ledger.listing.jobs(limit=1)] == ["abd999"]


def test_the_pace_is_exact_over_all_that_share_the_ledger(opening: Opening) -> None:
    ledgers = [opening() for _ in range(2)]
    starts = sorted(ledgers[n % 2].next_start("brook", 15, 60.0, 1000.0) for n in range(60))
    assert all(later - earlier >= 60.0 for earlier, later in zip(starts, starts[15:], strict=False))
    assert starts[-1] - 1000.0 <= 180.0 * 1.02
    assert ledgers[0].next_start("heron", 15, 60.0, 1000.0) == 1000.0


def test_threads_and_ledgers_at_once_lose_nothing(opening: Opening) -> None:
    ledgers = [opening() for _ in range(4)]
    ledgers[0].open_job("abc123", "note.wav", "sha256:1", "brook", None)

    def work(number: int) -> None:
        own = ledgers[number % 4]
        record = claimed(own, f"r{number}")
        own.send(record, number)
        own.finish(record, str(number).encode(), billed=1.0, cost=None)

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(work, range(60)))
    job = ledgers[1].listing.job("abc")
    assert (job.pieces, job.pieces_done, job.billed) == (60, 60, 60.0)


def test_a_ledger_that_cannot_be_used_is_told_in_one_line(tmp_path: Path) -> None:
    Ledger(tmp_path).close()
    with sqlite3.connect(tmp_path / LEDGER_FILE) as connection:
        connection.execute("UPDATE ledger SET version = 99")
    connection.close()
    before = list(sqlite3.connect(tmp_path / LEDGER_FILE).iterdump())
    with pytest.raises(LedgerError, match="of version 99"):
        Ledger(tmp_path)
    assert list(sqlite3.connect(tmp_path / LEDGER_FILE).iterdump()) == before
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / LEDGER_FILE).write_text("no database at all, though long enough to be one" * 40)
    with pytest.raises(LedgerError, match="cannot be used"):
        Ledger(tmp_path / "other")


def test_a_silent_process_of_another_machine_is_taken_for_dead(
    ledger: Ledger, monkeypatch: pytest.MonkeyPatch
) -> None:
    ledger.owner = "elsewhere:17:0:0"
    ledger.beat()
    ledger.send(claimed(ledger), 10)
    ledger.owner = "here:18:0:0"
    assert ledger.claim("abc123", "r1", 0.0, 30.0, None) is None
    now = time.time()
    monkeypatch.setattr("mantisreed.jobs.ledger.time.time", lambda: now + 100)
    assert claimed(ledger).state == "in doubt"
