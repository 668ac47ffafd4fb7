"""One job has one id and one state: the same on the command line, in the API and on the board."""

import asyncio
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from browser import wait_until
from conftest import Note
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.life import SHOWN_STATES
from mantisreed.jobs.records import JobRecord
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.serving import desk as serving_desk
from mantisreed.serving.desk import Desk
from mantisreed.serving.orders import ENDED, Order, OrderBook, new_id
from mantisreed.serving.own_desk import OwnDesk
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Listener
from mantisreed.workspace import open_workspace
from serving.running import Running, serving, standins

ROOT = Path(__file__).parents[2]


def commanded(folder: Path, *arguments: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "mantisreed", *arguments]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)


def in_ledger(folder: Path, job: str) -> dict[str, Any]:
    shown = commanded(folder, "jobs", job, "--json")
    told = json.loads(shown.stdout)
    assert isinstance(told, dict) and told["id"] == job
    return told


def is_the_same_everywhere(service: Running, job: str) -> str:
    """The job's state, which must be the same in the ledger and in the API."""
    states: set[str] = set()

    def look() -> bool:
        states.clear()
        states.add(service.ask("GET", f"/jobs/{job}").json["state"])
        states.add(in_ledger(service.folder, job)["state"])
        return len(states) == 1

    wait_until(look, 20.0)
    return states.pop()


def test_a_job_has_one_id_and_one_state_wherever_it_is_looked_at(
    listener: Listener, note: Note, trusting: Path
) -> None:
    program = json.dumps([sys.executable, "check.py"])
    with standins(listener, trusting, more=f"\n[follow_up.checked]\ncommand.run = {program}\n"):
        (trusting / "check.py").write_text("raise SystemExit('the tide table is missing')")
        with serving(trusting) as service:
            followed = service.send(note.path).json
            assert followed["state"] == "waiting"
            costly = service.send(note.path, "/jobs?language=en&spend_limit=0.0000001").json["id"]
            service.ended(followed["id"])
            service.ended(costly)
            assert is_the_same_everywhere(service, followed["id"]) == "follow-up failed"
            assert is_the_same_everywhere(service, costly) == "failed"
            failed = json.loads(commanded(trusting, "jobs", "--state", "failed", "--json").stdout)
            assert {one["id"] for one in failed["jobs"]} == {followed["id"], costly}
            only = commanded(trusting, "jobs", "--state", "follow-up failed", "--json")
            assert [one["id"] for one in json.loads(only.stdout)["jobs"]] == [followed["id"]]
            # It is done once more when somebody says so, and the engine is not paid again.
            (trusting / "check.py").write_text("")
            assert service.ask("POST", f"/jobs/{followed['id']}/retry").status == 202
            told = service.ended(followed["id"])
            assert is_the_same_everywhere(service, followed["id"]) == told["state"] == "done"
            assert len(in_ledger(trusting, followed["id"])["pieces"][0]["attempts"]) == 1


def test_an_old_record_of_the_ledger_does_not_open_a_job_that_has_ended_meanwhile(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def read_slowly(desk: Desk, moment: float) -> list[JobRecord]:
        records = await look(desk, moment)
        if not states:
            await desk._book.change(order, state="done", finished=1.0)
        states.append((len(records), order.state))
        return records

    async def follow() -> None:
        workspace = open_workspace(str(settings))
        writer = LedgerWriter(lambda: open_ledger(workspace, "serve"))
        book = OrderBook(writer, tmp_path / "recordings")
        await book.open()
        await book.add(order)
        desk = OwnDesk(workspace, book, writer)
        job = JobToOpen(order.id, "one.wav", "", "brook", "EUR")
        await writer.perform(lambda ledger: ledger.jobs.announce(job))
        await desk.resume()
        while len(states) < 2:
            await asyncio.sleep(0.01)
        await desk.stop(0.0)
        writer.close()

    states: list[tuple[int, str]] = []
    settings = tmp_path / "mantisreed.toml"
    settings.write_text("")
    look = Desk._changed_since
    monkeypatch.setattr(Desk, "_changed_since", read_slowly)
    monkeypatch.setattr(serving_desk, "_LOOK", 0.05)
    order = Order(id=new_id(), owner="", name="one.wav", path="one.wav", is_ours=True)
    order.finished, order.state = 0.5, "failed"  # an order that has ended is not worked on
    asyncio.run(follow())
    assert states[0] == (1, "done"), "the ledger has the job"
    assert states[1][1] == "done"


def test_what_commands_do_with_a_job_is_told_by_the_service(
    listener: Listener, note: Note, trusting: Path
) -> None:
    with standins(listener, trusting, FaultProfile(queue=0.5)), serving(trusting) as service:
        refused = "/jobs?engine=brook&spend_limit=0.0000001"
        job = service.send(note.path, refused).json["id"]
        assert service.ended(job)["state"] == "failed"
        assert commanded(trusting, "retry", job, "--spend-limit", "5").returncode == 0
        wait_until(lambda: service.ask("GET", f"/jobs/{job}").json["state"] == "done", 20.0)
        told = service.ask("GET", f"/jobs/{job}").json
        assert told["words"] and told["error"] is None and told["cost"] > 0
        assert service.ask("GET", f"/jobs/{job}/text").status == 200
        assert commanded(trusting, "forget", job, "--yes").returncode == 0
        wait_until(lambda: is_the_same_everywhere(service, job) == "cancelled", 20.0)


def test_jobs_that_ask_for_the_same_are_cut_the_same_and_paid_once(
    service: Running, note: Note
) -> None:
    jobs = [service.send(note.path).json["id"] for _ in range(2)]
    ledger = []
    for job in jobs:
        service.ended(job)
        ledger.append(in_ledger(service.folder, job))
    assert ledger[0]["digest"] == ledger[1]["digest"]
    assert sum(len(one["pieces"]) for one in ledger) == 2
    costs = [service.ask("GET", f"/jobs/{job}").json["cost"] for job in jobs]
    assert min(costs) == 0


@pytest.mark.parametrize("page", ["docs/commands.md", "src/mantisreed/serving/board/board.js"])
def test_every_state_is_in_the_list_of_states(page: str) -> None:
    text = (ROOT / page).read_text()
    assert all(f"`{state}`" in text or f'"{state}"' in text for state in SHOWN_STATES)
    assert set(SHOWN_STATES) >= ENDED
