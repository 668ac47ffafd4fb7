"""Several services in one folder: each job is worked on by one, and answered by all."""

import http.server
import json
import os
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from browser import wait_until
from cli.ferry import Ferry
from mantisreed.serving.orders import Order, OrderBook
from mantisreed.serving.services import Services
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


def test_orders_of_a_service_that_lives_are_not_taken_over(tmp_path: Path) -> None:
    def book() -> OrderBook:
        services = Services(tmp_path / "services")
        services.begin()
        made = OrderBook(tmp_path / ".mantisreed" / "serve" / "jobs", services)
        made.open()
        return made

    first = book()
    second = book()
    order = Order(id="abc", owner="", name="note.wav", link="http://marsh.example/note.wav")
    first.add(order)
    assert [one.id for one in second.follow()] == ["abc"] and second.follow() == []
    seen = second.get("abc")
    assert seen is not None and not second.is_own(seen) and not second.take_over(seen)
    first.change(order, state="done", words=7)
    assert [one.words for one in second.follow()] == [7] and first.services.has_others
    first.services.end()
    assert second.take_over(seen) and second.is_own(seen) and not second.services.has_others
    assert [one.id for one in first.follow()] == ["abc"] and not first.is_own(order)
    (tmp_path / ".mantisreed" / "serve" / "jobs" / "abc.json").unlink()
    gone: list[Order] = []
    first.on_gone = gone.append
    assert first.follow() == [] and gone == [order] and first.get("abc") is None
    second.services.end()


def test_a_change_of_another_is_neither_overlooked_nor_written_over(tmp_path: Path) -> None:
    folder = tmp_path / ".mantisreed" / "serve" / "jobs"
    books = []
    for _ in range(2):
        services = Services(tmp_path / "services")
        services.begin()
        books.append(OrderBook(folder, services))
        books[-1].open()
    one, other = books
    order = Order(id="abc", owner="", name="note.wav", link="http://marsh.example/note.wav")
    one.add(order)
    one.change(order, state="failed", error="it did not answer")
    assert [found.id for found in other.follow()] == ["abc"]
    seen = other.get("abc")
    assert seen is not None
    # The other is asked to try it again, and before the first one looks, it notes what it knows.
    other.change(seen, state="waiting", error=None, webhook_state="waiting")
    one.change(order, state="waiting", cost=0.25)
    assert order.error is None and order.webhook_state == "waiting"
    assert [found.id for found in one.follow()] == ["abc"] and one.follow() == []
    # What the other has forgotten does not come back with a note.
    (folder / "abc.json").unlink()
    one.change(order, state="done")
    assert not (folder / "abc.json").exists()
    assert one.follow() == [] and one.get("abc") is None
    for book in books:
        book.services.end()
