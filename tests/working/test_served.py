"""A service that leaves its jobs to workers on other machines."""

import json
import shutil
import socket
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from browser import wait_until
from cli.ferry import Ferry
from conftest import Command, offered
from mantisreed.standin.store import ObjectStore
from outages import BreakingWay
from serving.running import Running, made, serving
from working.conftest import on_another_machine, storing


@pytest.fixture
def store(workspace: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[ObjectStore]:
    with storing(workspace, monkeypatch) as store:
        yield store


@pytest.fixture
def elsewhere(workspace: Path, store: ObjectStore) -> tuple[str, str]:
    return on_another_machine(workspace)


@pytest.fixture
def service(workspace: Path, store: ObjectStore, elsewhere: tuple[str, str]) -> Iterator[Running]:
    with serving(workspace.parent, "--queue") as service:
        yield service


def waiting(service: Running, job: str) -> None:
    """Wait until a job is in the queue."""
    wait_until(
        lambda: service.ask("GET", f"/jobs/{job}").json["stage"] == "it is in the queue", 20.0
    )


def test_what_a_service_queues_a_worker_on_another_machine_does(
    service: Running,
    store: ObjectStore,
    notes: Path,
    ferry: Ferry,
    elsewhere: tuple[str, str],
    mantisreed: Command,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    jobs = []
    for note in sorted(notes.iterdir())[:2]:
        sent = service.send(note, f"/jobs?name={note.name.replace(' ', '-')}&to=srt")
        assert sent.status == 202 and sent.json["state"] == "waiting"
        jobs.append(sent.json["id"])
    for job in jobs:
        waiting(service, job)
    assert not ferry.answered
    with monkeypatch.context() as patch:
        patch.setattr("mantisreed.state.this_machine", lambda: "another machine")
        worked = mantisreed("work", "--until-idle", "1s", *elsewhere)
    assert "2 done, 0 failed" in worked.stderr, worked.stderr
    for job in jobs:
        told = service.ended(job)
        assert told["state"] == "done" and told["words"] > 0 and told["cost"] is not None
        assert service.ask("GET", f"/jobs/{job}/outputs/srt").body.startswith(b"1\n")
        assert service.ask("GET", f"/jobs/{job}/sound").status == 200
    assert set(ferry.answered.values()) == {1}
    written = {name.rpartition("/")[2] for name in store.objects if "/transcripts/" in name}
    assert {"note-0.srt", "note-1.transcript.json"} <= written
    # A correction is saved where the outputs are.
    document = service.ask("GET", f"/jobs/{jobs[0]}/outputs/json").json
    document["notes"] = ["a note"]
    saved = service.save(jobs[0], document)
    assert saved.status == 200, saved.body
    for job in jobs:
        assert service.ask("DELETE", f"/jobs/{job}").status == 204
    assert not any("/recordings/" in name for name in store.objects)
    assert "marsh/readme.txt" in store.objects


def test_a_recording_that_is_gone_fails_its_job_in_words(
    service: Running,
    store: ObjectStore,
    notes: Path,
    elsewhere: tuple[str, str],
    mantisreed: Command,
) -> None:
    job = service.send(notes / "note 1.flac", "/jobs?name=note.flac").json["id"]
    waiting(service, job)
    for name in [name for name in store.objects if "/recordings/" in name]:
        del store.objects[name]
    mantisreed("work", "--until-idle", "1s", *elsewhere)
    told = service.ended(job)
    assert told["state"] == "failed" and "cannot be read" in told["error"]["what"], told


def test_a_service_that_was_restarted_sees_what_workers_did_meanwhile(
    workspace: Path,
    store: ObjectStore,
    notes: Path,
    ferry: Ferry,
    elsewhere: tuple[str, str],
    mantisreed: Command,
) -> None:
    note = notes / "note 1.flac"
    with serving(workspace.parent, "--queue") as service:
        job = service.send(note).json["id"]
        waiting(service, job)
    assert "1 done" in mantisreed("work", "--until-idle", "1s", *elsewhere).stderr
    with serving(workspace.parent, "--queue") as service:
        assert service.ended(job)["state"] == "done"
        assert service.ask("GET", f"/jobs/{job}/text").status == 200
    assert set(ferry.answered.values()) == {1}


def test_a_queued_job_is_cancelled_and_tried_again(
    service: Running,
    notes: Path,
    ferry: Ferry,
    elsewhere: tuple[str, str],
    mantisreed: Command,
) -> None:
    job = service.send(notes / "note 1.flac").json["id"]
    waiting(service, job)
    assert service.ask("POST", f"/jobs/{job}/cancel").json["state"] == "cancelled"
    assert "0 done" in mantisreed("work", "--until-idle", "1s", *elsewhere).stderr
    assert not ferry.answered
    assert service.ask("POST", f"/jobs/{job}/retry").status == 202
    waiting(service, job)
    assert "1 done" in mantisreed("work", "--until-idle", "1s", *elsewhere).stderr
    assert service.ended(job)["state"] == "done"


def test_links_of_strangers_lead_workers_to_the_internet_only(
    service: Running,
    notes: Path,
    elsewhere: tuple[str, str],
    mantisreed: Command,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    def near(host: str, *more: Any, **named: Any) -> Any:
        return resolve("127.0.0.1" if host == "tide.example" else host, *more, **named)

    resolve = socket.getaddrinfo
    asked: list[str] = []
    with offered(notes, asked) as port:
        link = json.dumps({"link": f"http://tide.example:{port}/note%201.flac"}).encode()
        job = service.ask("POST", "/jobs", link, Content_Type="application/json").json["id"]
        waiting(service, job)
        monkeypatch.setattr(socket, "getaddrinfo", near)
        mantisreed("work", "--until-idle", "1s", *elsewhere)
    told = service.ended(job)
    assert told["state"] == "failed" and "near this machine" in told["error"]["what"], told
    assert not asked


def test_a_token_spends_no_more_though_workers_do_the_jobs(
    workspace: Path,
    store: ObjectStore,
    notes: Path,
    elsewhere: tuple[str, str],
    mantisreed: Command,
) -> None:
    token = made(workspace.parent, "hut", "--spend-limit", "0.003")
    sound = (notes / "note 1.flac").read_bytes()
    with serving(workspace.parent, "--queue") as service:

        def sent() -> tuple[int, str]:
            answer = service.ask(
                "POST", "/jobs", sound, token, Content_Type="application/octet-stream"
            )
            assert answer.status in (202, 403), answer.body
            return answer.status, answer.json.get("id", "")

        status, job = sent()  # 8 s cost 0.0013; twice that may be spent on it
        assert status == 202
        assert sent()[0] == 403
        mantisreed("work", "--until-idle", "1s", *elsewhere)
        told = service.ended(job, token)
        assert told["state"] == "done" and 0 < told["cost"] < 0.0014
        assert sent()[0] == 202
        assert sent()[0] == 403


def test_a_database_that_is_away_costs_a_service_with_a_queue_time_only(
    service: Running,
    notes: Path,
    ferry: Ferry,
    way: BreakingWay,
    elsewhere: tuple[str, str],
    mantisreed: Command,
) -> None:
    first = service.send(notes / "note 1.flac").json["id"]
    way.is_away = True
    way.cut()
    threading.Timer(3.0, lambda: setattr(way, "is_away", False)).start()
    second = service.send(notes / "note 2.flac").json["id"]
    for job in (first, second):
        waiting(service, job)
    assert "2 done" in mantisreed("work", "--until-idle", "2s", *elsewhere).stderr
    for _ in range(3):
        way.cut()
        time.sleep(0.3)
    for job in (first, second):
        assert service.ended(job)["state"] == "done"
    assert set(ferry.answered.values()) == {1} and len(ferry.answered) == 2


def test_what_a_killed_service_has_queued_another_one_tells_the_end_of(
    workspace: Path,
    store: ObjectStore,
    notes: Path,
    ferry: Ferry,
    elsewhere: tuple[str, str],
    mantisreed: Command,
) -> None:
    with (
        serving(workspace.parent, "--queue") as first,
        serving(workspace.parent, "--queue") as second,
    ):
        found = sorted(notes.iterdir())[:4]
        jobs = [
            (first, second)[number % 2].send(note).json["id"] for number, note in enumerate(found)
        ]
        first.process.kill()
        first.process.wait()
        # It counts as dead after ten seconds.
        ended = mantisreed("work", "--until-idle", "15s", *elsewhere)
        assert "4 done, 0 failed" in ended.stderr, ended.stderr
        for job in jobs:
            assert second.ended(job)["state"] == "done"
            assert second.ask("GET", f"/jobs/{job}/text").status == 200
    assert set(ferry.answered.values()) == {1} and len(ferry.answered) == 4


@pytest.fixture
def another(workspace: Path, elsewhere: tuple[str, str]) -> Iterator[Running]:
    """A service on another machine, with the same ledger and storage."""
    # What a machine is known by stands for the machine.
    code = (
        "import sys; from mantisreed import state; state.this_machine = lambda: 'another';"
        "from mantisreed.cli.main import main; sys.exit(main(sys.argv[1:]))"
    )
    with serving(
        workspace.parent / "other", "--queue", program=(sys.executable, "-c", code)
    ) as service:
        yield service


def told_by(service: Running, job: str, state: str) -> dict[str, Any]:
    """What a service tells of a job, once it is in a state."""
    told: dict[str, Any] = {}

    def is_so() -> bool:
        told.update(service.ask("GET", f"/jobs/{job}").json)
        return told.get("state") == state

    try:
        wait_until(is_so, 20.0)
    except AssertionError as error:
        raise AssertionError(f"last told: {told}") from error
    return told


def test_services_on_two_machines_answer_for_the_same_jobs(
    service: Running,
    another: Running,
    store: ObjectStore,
    notes: Path,
    ferry: Ferry,
    elsewhere: tuple[str, str],
    mantisreed: Command,
) -> None:
    found = sorted(notes.iterdir())[:2]
    first = service.send(found[0], "/jobs?name=first.flac&to=srt").json["id"]
    second = another.send(found[1], "/jobs?name=second.flac&to=srt").json["id"]
    for one in (service, another):
        for job in (first, second):
            told_by(one, job, "waiting")
    assert "2 done" in mantisreed("work", "--until-idle", "2s", *elsewhere).stderr
    texts = []
    for one in (service, another):
        for job in (first, second):
            assert told_by(one, job, "done")["words"] > 0
            texts.append(one.ask("GET", f"/jobs/{job}/outputs/srt").body)
            assert one.ask("GET", f"/jobs/{job}/sound").status == 200
    assert texts[:2] == texts[2:] and set(ferry.answered.values()) == {1}
    # An address that one opens leads through whichever answers.
    page = service.ask("POST", f"/jobs/{first}/review").json["url"]
    assert another.ask("GET", page).status == 200
    # What one corrects, the other has; of two who begin from the same, one is first.
    document = another.ask("GET", f"/jobs/{first}/outputs/json").json
    before = service.ask("HEAD", f"/jobs/{first}/outputs/json").headers["etag"]
    document["notes"] = ["heard twice"]
    assert another.save(first, document).status == 200
    path = f"/jobs/{first}/outputs/json"
    assert service.save(first, document, before).status == 412
    wait_until(lambda: service.ask("GET", path).json.get("notes") == ["heard twice"], 20.0)
    # What one forgets is nowhere.
    assert another.ask("DELETE", f"/jobs/{first}").status == 204
    wait_until(lambda: service.ask("GET", f"/jobs/{first}").status == 404, 20.0)
    for folder in (service.folder, another.folder):
        assert not (folder / ".mantisreed" / "serve" / "recordings" / first).exists()
    assert service.ask("POST", f"/jobs/{second}/retry").status in (202, 409)


def test_tokens_are_the_same_on_all_machines(service: Running, another: Running) -> None:
    token = made(another.folder, "hut")
    for one in (service, another):
        assert one.ask("GET", "/jobs", token=token).status == 200
        assert one.ask("GET", "/jobs").status == 401


def test_an_upload_goes_on_at_another_machine(
    service: Running, another: Running, store: ObjectStore, notes: Path
) -> None:
    content = (notes / "note 2.flac").read_bytes()
    begun = service.ask("POST", "/uploads?name=note.flac", content[:40_000], Upload_Complete="?0")
    place = begun.headers["location"]
    assert another.ask("HEAD", place).headers["upload-offset"] == "40000"
    at_40_000, at_60_000 = {"Upload_Offset": "40000"}, {"Upload_Offset": "60000"}
    part = another.ask("PATCH", place, content[40_000:60_000], Upload_Complete="?0", **at_40_000)
    assert part.status == 204
    assert service.ask("PATCH", place, content[40_000:], **at_40_000).status == 409
    sent = service.ask("PATCH", place, content[60_000:], Upload_Complete="?1", **at_60_000)
    assert sent.status == 204 and sent.headers["upload-complete"] == "?1"
    wanted = json.dumps({"upload": place.removeprefix("/uploads/")}).encode()
    job = another.ask("POST", "/jobs", wanted, Content_Type="application/json").json["id"]
    assert another.ask("GET", f"/jobs/{job}").json["seconds"] == 8.0
    (stored,) = [one for name, one in store.objects.items() if "/recordings/" in name]
    assert stored.content == content
    assert not any("/uploads/" in name for name in store.objects)
    assert service.ask("HEAD", place).status == 404


def test_what_a_machine_accepted_before_it_was_lost_is_done_from_another(
    service: Running,
    another: Running,
    store: ObjectStore,
    notes: Path,
    elsewhere: tuple[str, str],
    mantisreed: Command,
) -> None:
    job = service.send(notes / "note 1.flac", "/jobs?name=note.flac").json["id"]
    service.process.kill()
    service.process.wait()
    shutil.rmtree(service.folder / ".mantisreed" / "serve" / "recordings")
    ended = mantisreed("work", "--until-idle", "15s", *elsewhere)
    assert "1 done, 0 failed" in ended.stderr, ended.stderr
    told_by(another, job, "done")
    assert another.ask("GET", f"/jobs/{job}/text").body.strip()


def test_a_queue_needs_a_ledger_that_several_machines_can_use(
    tmp_path: Path, mantisreed: Command
) -> None:
    (tmp_path / "mantisreed.toml").write_text("")
    refused = mantisreed("serve", "--queue")
    assert refused.returncode == 2 and "[ledger] url" in refused.stderr
