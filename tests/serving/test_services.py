"""Several services on one ledger: each job is worked on by one, and answered by all."""

import asyncio
import http.server
import json
import os
import signal
import threading
import time
from collections.abc import Callable, Coroutine, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec
import pytest

from browser import wait_until
from cli.ferry import Ferry
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.serving.orders import KeyUsedError, Order, OrderBook
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from serving.running import Running, serving


@pytest.fixture
def ferry(trusting: Path) -> Iterator[Ferry]:
    ferry = Ferry()
    with ferry.sailing(trusting):
        yield ferry


@pytest.fixture
def notes(english: list[Phrase], tmp_path: Path) -> list[Path]:
    found = [tmp_path / f"note-{number}.wav" for number in range(4)]
    for number, path in enumerate(found):
        compose(english, seed=600 + number, duration=8).write(path)
    return found


@contextmanager
def called() -> Iterator[tuple[str, list[str]]]:
    """An address to call back, and the jobs that it was called about."""
    jobs: list[str] = []

    class Hook(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["content-length"]))
            jobs.append(json.loads(body)["job"]["id"])
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Hook) as hook:
        threading.Thread(target=hook.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{hook.server_address[1]}/done", jobs
        hook.shutdown()


def state(service: Running, job: str) -> str:
    answer = service.ask("GET", f"/jobs/{job}")
    return str(answer.json["state"]) if answer.status == 200 else f"{answer.status}"


def test_each_answers_for_the_jobs_of_all_and_each_is_called_about_once(
    ferry: Ferry, notes: list[Path], trusting: Path
) -> None:
    ferry.slowness = 0.5
    with (
        called() as (address, jobs),
        serving(trusting, "--allow-private-links") as one,
        serving(trusting, "--allow-private-links") as other,
    ):
        sent = [
            service.send(
                path, f"/jobs?webhook={address}&name={path.stem.replace(' ', '-')}.wav"
            ).json["id"]
            for path, service in zip(notes, (one, other, one, other), strict=True)
        ]
        for service in (one, other):
            for job in sent:
                wait_until(lambda service=service, job=job: state(service, job) == "done", 40.0)
                assert service.ask("GET", f"/jobs/{job}/outputs/txt").body.strip()
        wait_until(lambda: len(jobs) >= 4, 20.0)
        time.sleep(1.5)
        assert sorted(jobs) == sorted(sent) and set(ferry.answered.values()) == {1}
        # What one forgets, the other does not have any more.
        assert one.ask("DELETE", f"/jobs/{sent[1]}").status in (200, 204)
        wait_until(lambda: state(other, sent[1]) == "404", 20.0)


def test_one_cancels_and_tries_again_what_the_other_works_on(
    ferry: Ferry, notes: list[Path], trusting: Path
) -> None:
    ferry.slowness = 3.0
    with serving(trusting) as one, serving(trusting) as other:
        job = one.send(notes[0], "/jobs?name=note.wav").json["id"]
        wait_until(lambda: state(other, job) in ("waiting", "sending"), 20.0)
        assert other.ask("POST", f"/jobs/{job}/cancel").status == 200
        wait_until(lambda: state(one, job) == "cancelled", 20.0)
        # What was on its way is waited for, and counts if it comes whole.
        wait_until(lambda: bool(ferry.answered), 20.0)
        time.sleep(2.5)
        ferry.slowness = 0.0
        if state(other, job) == "cancelled":
            assert other.ask("POST", f"/jobs/{job}/retry").status == 202
        for service in (one, other):
            wait_until(lambda service=service: state(service, job) == "done", 40.0)
        assert set(ferry.answered.values()) == {1}


def test_one_tries_again_what_failed_at_the_other(
    ferry: Ferry, notes: list[Path], trusting: Path
) -> None:
    settings = trusting / "mantisreed.toml"
    right = settings.read_text()
    settings.write_text(right.replace('text = "', 'text = "not.there.'))
    with serving(trusting) as one, serving(trusting) as other:
        job = one.send(notes[0], "/jobs?name=note.wav").json["id"]
        wait_until(lambda: state(other, job) == "failed", 20.0)
        asked = sum(ferry.asked.values())
        assert other.ask("POST", f"/jobs/{job}/retry").status == 202
        # It is sent once more, by the service that has the job, and not by both.
        wait_until(lambda: sum(ferry.asked.values()) > asked, 20.0)
        for service in (one, other):
            wait_until(lambda service=service: state(service, job) == "failed", 20.0)
        time.sleep(2.5)
        assert sum(ferry.asked.values()) == asked + 1


def test_what_one_leaves_is_taken_over_and_a_new_one_begins_nothing_twice(
    ferry: Ferry, notes: list[Path], trusting: Path
) -> None:
    ferry.slowness = 4.0
    with called() as (address, jobs), serving(trusting, "--allow-private-links") as one:
        job = one.send(notes[0], f"/jobs?webhook={address}&name=note.wav").json["id"]
        wait_until(lambda: bool(ferry.asked), 20.0)
        # As a new version is started before the old one ends.
        with serving(trusting, "--allow-private-links") as other:
            time.sleep(2.5)
            assert sum(ferry.asked.values()) == 1
            ferry.slowness = 0.0
            os.kill(one.process.pid, signal.SIGKILL)
            wait_until(lambda: state(other, job) == "done", 60.0)
            wait_until(lambda: bool(jobs), 20.0)
            time.sleep(1.5)
            assert jobs == [job]


@dataclass
class Shared:
    """The book of one service on a ledger that several have."""

    book: OrderBook
    writer: LedgerWriter
    gone: list[Order] = field(default_factory=list)

    def close(self) -> None:
        self.writer.close()


async def opened(folder: Path) -> Shared:
    writer = LedgerWriter(lambda: Ledger(folder, role="serve"))
    gone: list[Order] = []
    book = OrderBook(writer, folder / "serve" / "recordings", on_gone=gone.append)
    await book.open()
    return Shared(book, writer, gone)


def linked(known: str = "abc", **more: Any) -> Order:
    return Order(id=known, owner="", name="note.wav", link="http://marsh.example/note.wav", **more)


def on_two(folder: Path, told: Callable[[Shared, Shared], Coroutine[Any, Any, None]]) -> None:
    """Have two services on one ledger, and see to the end of both."""

    async def go() -> None:
        shared = [await opened(folder / ".mantisreed") for _ in range(2)]
        try:
            await told(*shared)
        finally:
            for one in shared:
                one.close()

    asyncio.run(go())


def test_orders_of_a_service_that_lives_are_not_taken_over(tmp_path: Path) -> None:
    async def told(one: Shared, other: Shared) -> None:
        first, second, order = one.book, other.book, linked()
        await first.add(order)
        assert [found.id for found in await second.follow()] == ["abc"]
        assert await second.follow() == []
        seen = second.get("abc")
        assert seen is not None and not second.is_own(seen)
        await second.follow()
        assert second.is_anothers(seen) and await second.take_over([seen]) == []
        await first.change(order, state="done", words=7)
        assert [found.words for found in await second.follow()] == [7]
        one.close()
        assert await second.take_over([seen]) == [seen] and second.is_own(seen)
        # It is there again, under another name.
        one = await opened(tmp_path / ".mantisreed")
        assert [(found.id, one.book.is_own(found)) for found in one.book] == [("abc", False)]
        await second.remove(seen)
        assert await one.book.follow() == [] and [found.id for found in one.gone] == ["abc"]
        assert one.book.get("abc") is None and not other.gone
        one.close()

    on_two(tmp_path, told)


def test_a_change_of_another_is_neither_overlooked_nor_written_over(tmp_path: Path) -> None:
    async def told(one: Shared, other: Shared) -> None:
        order = linked()
        await one.book.add(order)
        await one.book.change(order, state="failed", error="it did not answer")
        assert [found.id for found in await other.book.follow()] == ["abc"]
        seen = other.book.get("abc")
        assert seen is not None
        # The other is asked to try it again, and before the first one looks, it notes what it
        # knows.
        await other.book.change(seen, state="waiting", error=None, webhook_state="waiting")
        await one.book.change(order, state="waiting", cost=0.25)
        assert order.error is None and order.webhook_state == "waiting"
        assert [found.id for found in await one.book.follow()] == ["abc"]
        assert await one.book.follow() == []
        # Of two who begin from the same, one is first.
        assert await other.book.change_if(seen, {"corrections": 0}, corrections=1)
        assert not await one.book.change_if(order, {"corrections": 0}, corrections=1)
        assert order.corrections == 1
        # What the other has forgotten does not come back with a note, and its cost stays.
        await other.book.remove(seen)
        await one.book.change(order, state="done")
        assert await one.book.follow() == [] and one.book.get("abc") is None
        assert one.book.forgotten("") == other.book.forgotten("") == 0.25
        again = await opened(tmp_path / ".mantisreed")
        assert not list(again.book) and again.book.forgotten("") == 0.25
        again.close()

    on_two(tmp_path, told)


def test_a_change_is_seen_however_long_nobody_looked(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("mantisreed.serving.orders._LATELY", 0.05)

    async def told(one: Shared, other: Shared) -> None:
        order = linked()
        await one.book.add(order)
        await other.book.follow()
        await one.book.change(order, state="done", words=7)
        # As long as the ledger is away, or the machine asleep.
        await asyncio.sleep(0.3)
        assert [found.words for found in await other.book.follow()] == [7]

    on_two(tmp_path, told)


def test_what_a_newer_program_notes_in_an_order_stays_when_an_older_one_changes_it(
    tmp_path: Path,
) -> None:
    async def told(one: Shared, other: Shared) -> None:
        order = linked()
        await one.book.add(order)
        body = msgspec.json.encode({**msgspec.to_builtins(order), "tide": "low"})
        await one.writer.perform(lambda ledger: ledger.served.change("abc", body))
        await one.book.change(order, state="done")
        (row,) = await other.writer.perform(lambda ledger: ledger.served.all())
        kept = msgspec.json.decode(row.body or b"")
        assert (kept["tide"], kept["state"], row.number) == ("low", "done", 3)

    on_two(tmp_path, told)


def test_an_idempotency_key_counts_at_all_services(tmp_path: Path) -> None:
    async def told(one: Shared, other: Shared) -> None:
        await one.book.add(linked("first", key="tide-7"))
        with pytest.raises(KeyUsedError) as used:
            await other.book.add(linked("second", key="tide-7"))
        assert used.value.order.id == "first"
        assert other.book.get("second") is None and other.book.with_key("", "tide-7") is not None

    on_two(tmp_path, told)


@pytest.mark.parametrize(
    "body", [b"{", b'{"id": 5}', b'{"id": "other", "owner": "", "name": "note.wav"}']
)
def test_a_job_that_cannot_be_read_is_told_and_left(tmp_path: Path, body: bytes) -> None:
    async def told(one: Shared, other: Shared) -> None:
        await one.writer.perform(lambda ledger: ledger.served.add("aaaa", "", None, body))
        await one.book.add(linked("bbbb"))
        third = await opened(tmp_path / ".mantisreed")
        assert [order.id for order in third.book] == ["bbbb"]
        assert list(third.book.unreadable) == ["aaaa"]
        assert [order.id for order in await other.book.follow()] == ["bbbb"]
        (row,) = await one.writer.perform(lambda ledger: ledger.served.some(["aaaa"]))
        assert row.body == body
        third.close()

    on_two(tmp_path, told)
