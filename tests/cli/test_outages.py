"""A ledger in PostgreSQL whose server goes away: that costs time, and nothing else."""

import random
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from cli.ferry import Ferry
from conftest import Command
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.request_rows import Bill, PieceToSend
from mantisreed.jobs.store import ownership
from mantisreed.jobs.store.database import LedgerAwayError
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from outages import BreakingWay
from postgres import new_database, pooled, postgresql

__all__ = ["postgresql"]

JOB = JobToOpen("abc123", "note.wav", "sha256:1", "brook", "credits")
PIECE = PieceToSend(JOB.id, "r1", 0.0, 9.0)


@pytest.fixture
def way(postgresql: str) -> Iterator[BreakingWay]:
    with BreakingWay(new_database(postgresql)).standing() as way:
        yield way


@pytest.fixture
def ledger(way: BreakingWay, tmp_path: Path) -> Iterator[Ledger]:
    ledger = Ledger(tmp_path / ".mantisreed", way.url)
    ledger.jobs.open(JOB)
    yield ledger
    ledger.close()


@pytest.mark.parametrize("lost", ["COMMIT", "INSERT INTO attempt"])
def test_a_change_is_made_once_whatever_becomes_of_the_connection(
    lost: str, way: BreakingWay, ledger: Ledger
) -> None:
    way.swallows = lost.encode()
    writer = LedgerWriter(lambda: ledger)
    sent = writer._made_at_last(ledger, lambda it: it.requests.begin(PIECE, 10))
    assert sent is not None and sent.state == "sending"
    (piece,) = ledger.listing.pieces(JOB.id)
    assert piece.request.state == "sending" and len(piece.attempts) == 1


def test_what_is_only_read_takes_no_lock_and_notes_nobody(way: BreakingWay, ledger: Ledger) -> None:
    with ledger.together():  # which is the lock of all changes
        reader = Ledger(Path(), way.url)
        assert reader.listing.count() == 1
        reader.close()
    assert len(ledger._database.execute("SELECT owner FROM process")) == 1


def test_whoever_was_taken_for_dead_sends_nothing_more_and_its_late_answer_is_taken(
    way: BreakingWay, ledger: Ledger, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(ownership, "_GRACE_SECONDS", 0.0)
    on_its_way = ledger.requests.begin(PIECE, 10)
    claimed = ledger.requests.claim(PieceToSend(JOB.id, "r2", 9.0, 18.0))
    assert on_its_way is not None and claimed is not None
    ledger._ownership.release()  # as a process that is stopped renews its lease no more
    ledger._database.execute("UPDATE process SET seen = seen - 11")
    other = Ledger(tmp_path / "other", way.url)
    taken = other.requests.claim(PIECE)
    assert taken is not None and taken.state == "unconfirmed"
    with pytest.raises(LedgerAwayError):
        ledger.requests.claim(PieceToSend(JOB.id, "r3", 18.0, 27.0))
    ledger.sign_on()
    assert ledger.requests.claim(PIECE) is None
    assert ledger.requests.answer(on_its_way, b"late", Bill(1.0, None))
    assert other.requests.reply(other.requests.as_it_is(taken)) == b"late"
    other.close()


def test_a_request_on_its_way_that_is_nobodys_is_taken_up(ledger: Ledger, tmp_path: Path) -> None:
    assert ledger.requests.begin(PIECE, 10) is not None
    for owner in ("NULL", "'gone'"):
        ledger._database.execute(f"UPDATE request SET owner = {owner}, state = 'sending'")
        ledger.recover()
        record = ledger.requests.claim(PIECE)
        assert record is not None and record.state == "unconfirmed"


def test_a_run_goes_on_when_its_connections_are_cut_and_the_server_is_away(
    way: BreakingWay, mantisreed: Command, english: list[Phrase], tmp_path: Path
) -> None:
    for number in range(6):
        path = tmp_path / "in" / f"note {number}.flac"
        path.parent.mkdir(exist_ok=True)
        compose(english, seed=400 + number, duration=40, pauses=(0.8, 1.5)).write(path)
    ferry, chance, is_over = Ferry(), random.Random(7), threading.Event()
    ferry.slowness = 0.3

    def disturb() -> None:
        while not is_over.wait(chance.uniform(0.2, 1.0)):
            way.cut()
            if chance.random() < 0.3:
                way.is_away = True
                time.sleep(1.0)
                way.is_away = False

    with ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(f'{settings.read_text()}\n[ledger]\nurl = "{way.url}"\n')
        assert mantisreed("jobs").returncode == 0
        threading.Thread(target=disturb, daemon=True).start()
        result = subprocess.run(
            [sys.executable, "-m", "mantisreed", "run", "in", "--piece-length", "10s"],
            cwd=tmp_path,
            capture_output=True,
            text=True,
        )
        is_over.set()
        way.is_away = False
    assert result.returncode == 0, result.stderr
    assert set(ferry.answered.values()) == {1} and "unconfirmed" not in mantisreed("jobs").stdout


def test_a_pooler_that_gives_out_connections_by_transaction_will_do(
    postgresql: str, mantisreed: Command, english: list[Phrase], tmp_path: Path
) -> None:
    compose(english, seed=400, duration=40, pauses=(0.8, 1.5)).write(tmp_path / "note.flac")
    ferry = Ferry()
    with pooled(new_database(postgresql)) as url, ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(f'{settings.read_text()}\n[ledger]\nurl = "{url}"\n')
        result = mantisreed("run", "note.flac", "--piece-length", "10s")
        assert result.returncode == 0, result.stderr
        assert "done" in mantisreed("jobs").stdout and set(ferry.answered.values()) == {1}
