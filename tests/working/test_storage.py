"""Machines that share nothing but the ledger and a storage."""

import json
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest

from cli.ferry import Ferry
from cli.test_stored_outputs import keys
from conftest import Command, offered
from mantisreed.destinations.stored_outputs import StoredOutputs
from mantisreed.errors import InputError
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.records import Filter
from mantisreed.pipeline.incoming.shared_storage import SharedStorage, _name_in_address
from mantisreed.pipeline.options import stored_options
from mantisreed.pipeline.outputs import Outputs
from mantisreed.sources.recordings import Source
from mantisreed.sources.storage import opened, put_file
from mantisreed.standin.server import bound_socket, serving
from mantisreed.standin.store import ObjectStore
from mantisreed.workspace import open_workspace
from working.conftest import on_another_machine, storing


def test_another_machine_works_on_what_is_in_a_storage_and_writes_there(
    workspace: Path,
    notes: Path,
    ferry: Ferry,
    mantisreed: Command,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    store = ObjectStore()
    for note in sorted(notes.iterdir())[:3]:
        store.put(f"marsh/in/{note.name}", note.read_bytes())
    elsewhere = on_another_machine(workspace)
    with serving(store.application(), bound_socket(0)) as url:
        keys(url, monkeypatch)
        queued = ("submit", "s3://marsh/in/", "--queue", "--into", "s3://marsh/out")
        ended = mantisreed(*queued)
        assert ended.returncode == 0 and "3 recordings queued" in ended.stderr, ended.stderr
        with monkeypatch.context() as patch:
            patch.setattr("mantisreed.state.this_machine", lambda: "another machine")
            worked = mantisreed("work", "--until-idle", "1s", *elsewhere)
        assert "3 done, 0 failed" in worked.stderr, worked.stderr
        written = {name for name in store.objects if "/out/" in name}
        assert {f"marsh/out/note {number}.txt" for number in range(3)} <= written
        assert set(ferry.answered.values()) == {1}
        again = mantisreed(*queued)
        assert "0 recordings queued" in again.stderr and "3 done before" in again.stderr


@pytest.fixture
def store(
    workspace: Path, notes: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[tuple[ObjectStore, Path]]:
    """A storage in the settings, and two folders that both have a `note 0`."""
    second = notes.parent / "second"
    second.mkdir()
    (second / "note 0.flac").write_bytes((notes / "note 1.flac").read_bytes())
    for number in (1, 3, 4):
        (notes / f"note {number}.flac").unlink()
    with storing(workspace, monkeypatch) as store:
        yield store, second


def test_files_of_one_machine_are_worked_on_by_another_through_the_storage(
    workspace: Path,
    notes: Path,
    ferry: Ferry,
    mantisreed: Command,
    store: tuple[ObjectStore, Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    kept, second = store
    objects = kept.objects
    queued = ("submit", notes, second, "--queue", "--to", "txt")
    ended = mantisreed(*queued)
    assert ended.returncode == 0 and "4 recordings queued" in ended.stderr, ended.stderr
    put = sorted(name for name in objects if name.startswith("marsh/shared/recordings/"))
    assert len(put) == 4  # the same sound under two names is there under both
    sound = next(name for name in put if name.endswith("note 2.flac"))
    assert objects[sound].content == (notes / "note 2.flac").read_bytes()
    elsewhere = on_another_machine(workspace)
    with monkeypatch.context() as patch:
        patch.setattr("mantisreed.state.this_machine", lambda: "another machine")
        worked = mantisreed("work", "--until-idle", "1s", *elsewhere)
    assert "4 done, 0 failed" in worked.stderr, worked.stderr
    written = {name for name in objects if name.startswith("marsh/shared/transcripts/")}
    assert {name.rpartition("/")[2] for name in written} == {
        *("note 0.txt", "note 0-2.txt", "note 2.txt", "note 5.txt")
    }
    # The same sound is paid for once.
    assert len(ferry.answered) == 3 and set(ferry.answered.values()) == {1}
    # They are called as they were where they came from, and nothing is written there.
    assert {
        one["recording"] for one in json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
    } == {
        *(str(notes / f"note {number}.flac") for number in (0, 2, 5)),
        str(second / "note 0.flac"),
    }
    assert "s3://" not in ended.stderr and not (tmp_path / "transcripts").exists()
    again = mantisreed(*queued)
    assert "0 recordings queued" in again.stderr and "4 done before" in again.stderr, again.stderr
    assert sorted(name for name in objects if "/recordings/" in name) == put


def test_recordings_of_one_name_on_two_machines_do_not_meet(
    workspace: Path,
    notes: Path,
    mantisreed: Command,
    store: tuple[ObjectStore, Path],
    tmp_path: Path,
) -> None:
    kept, second = store
    elsewhere = on_another_machine(workspace)
    assert mantisreed("submit", notes / "note 0.flac", "--queue", "--to", "txt").returncode == 0
    assert "1 done" in mantisreed("work", "--until-idle", "1s").stderr
    ended = mantisreed("submit", second, "--queue", "--to", "txt", *elsewhere)
    assert "1 recording queued" in ended.stderr, ended.stderr
    assert "1 done" in mantisreed("work", "--until-idle", "1s").stderr
    texts = {name.rpartition("/")[2] for name in kept.objects if "/transcripts/" in name}
    assert texts == {"note 0.txt", "note 0-2.txt"}
    again = mantisreed("submit", second, "--queue", "--to", "txt", *elsewhere)
    assert "1 done before" in again.stderr, again.stderr


def test_two_machines_that_queue_one_name_at_the_same_moment_do_not_choose_one_stem(
    workspace: Path,
    notes: Path,
    mantisreed: Command,
    store: tuple[ObjectStore, Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    _, second = store
    # Neither sees what the other has written, as neither has written anything yet.
    monkeypatch.setattr(StoredOutputs, "holds", lambda self, name: False)
    monkeypatch.setattr(Outputs, "_claimed_by", lambda self, stem: None)
    for note in (notes / "note 0.flac", second / "note 0.flac"):
        assert mantisreed("submit", note, "--queue", "--to", "txt").returncode == 0
    with closing(open_ledger(open_workspace(str(workspace)))) as ledger:
        stems = {stored_options(job).output_stem for job in ledger.listing.jobs(Filter())}
    assert stems == {"note 0", "note 0-2"}


def test_a_job_whose_worker_died_after_writing_is_done_by_another(
    workspace: Path,
    notes: Path,
    mantisreed: Command,
    store: tuple[ObjectStore, Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    kept, _ = store
    assert mantisreed("submit", notes / "note 2.flac", "--queue", "--to", "txt").returncode == 0
    kept.put("marsh/shared/transcripts/note 2.txt", b"what a worker has written that died")
    ended = mantisreed("work", "--until-idle", "1s")
    assert "1 done" in ended.stderr, ended.stderr
    written = kept.objects["marsh/shared/transcripts/note 2.txt"].content
    assert written != b"what a worker has written that died"


def test_links_of_one_name_have_outputs_of_their_own_in_the_storage(
    notes: Path,
    mantisreed: Command,
    store: tuple[ObjectStore, Path],
    workspace: Path,
    tmp_path: Path,
) -> None:
    kept, second = store
    machines = ((), on_another_machine(workspace))
    with offered(notes) as first, offered(second) as other_site:
        for port, machine in zip((first, other_site), machines, strict=True):
            link = f"http://127.0.0.1:{port}/note%200.flac"
            assert mantisreed("submit", link, "--queue", "--to", "txt").returncode == 0
            ended = mantisreed("work", "--until-idle", "1s", *machine)
            assert "1 done" in ended.stderr, ended.stderr
    texts = {name.rpartition("/")[2] for name in kept.objects if "/transcripts/" in name}
    assert texts == {"note 0.txt", "note 0-2.txt"}


def test_a_recording_in_the_storage_goes_when_its_last_job_is_forgotten(
    notes: Path, mantisreed: Command, store: tuple[ObjectStore, Path]
) -> None:
    kept, _ = store
    note = notes / "note 2.flac"
    assert mantisreed("submit", note, "--queue").returncode == 0
    assert mantisreed("submit", note, "--queue", "--keep-silence").returncode == 0
    jobs = [one["id"] for one in json.loads(mantisreed("jobs", "--json").stdout)["jobs"]]
    assert len(jobs) == 2
    for left, job in ((1, jobs[0]), (0, jobs[1])):
        forgotten = mantisreed("forget", job, "--yes")
        assert forgotten.returncode == 0, forgotten.stderr
        assert sum("/recordings/" in name for name in kept.objects) == left
    assert "marsh/readme.txt" in kept.objects


def test_a_recording_that_the_storage_does_not_let_go_is_told_and_its_job_stays(
    notes: Path,
    mantisreed: Command,
    store: tuple[ObjectStore, Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    kept, _ = store
    assert mantisreed("submit", notes / "note 2.flac", "--queue").returncode == 0
    job = json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["id"]

    def refuse(address: str, name: str = "") -> None:
        raise InputError("cannot be removed (access denied)", where=address)

    with monkeypatch.context() as patched:
        patched.setattr("mantisreed.sources.storage.remove_stored", refuse)
        refused = mantisreed("forget", job, "--yes")
        assert refused.returncode == 2 and "access denied" in refused.stderr, refused.stderr
        assert "note 2.flac" in refused.stderr
    assert any("/recordings/" in name for name in kept.objects)
    assert mantisreed("forget", job, "--yes").returncode == 0
    assert not any("/recordings/" in name for name in kept.objects)


def test_a_storage_that_cannot_be_used_is_told_before_anything_is_queued(
    workspace: Path, notes: Path, mantisreed: Command, store: tuple[ObjectStore, Path]
) -> None:
    assert "shared/, written and removed in" in mantisreed("doctor").stdout
    assert not any(".check" in name for name in store[0].objects)
    refused = mantisreed("submit", notes, "--queue", "--into", "/srv/texts")
    assert refused.returncode == 2 and "--into s3://bucket/1998" in refused.stderr
    into = mantisreed("submit", notes / "note 2.flac", "--queue", "--into", "1998")
    assert into.returncode == 0 and "1 recording queued" in into.stderr, into.stderr
    settings = workspace.read_text()
    workspace.write_text(settings.replace('"s3://marsh/shared/"', '"/srv/shared"'))
    wrong = mantisreed("submit", notes, "--queue")
    assert wrong.returncode == 2 and "expected the address of a folder" in wrong.stderr


def test_a_storage_that_fails_fails_its_recordings_and_nothing_else(
    notes: Path,
    mantisreed: Command,
    store: tuple[ObjectStore, Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    def full(file: Path, address: str) -> None:
        if "note 2" in address:
            raise InputError("cannot be put into the storage (no space)", where=address)
        put_file(file, address)

    monkeypatch.setattr("mantisreed.sources.storage.put_file", full)
    ended = mantisreed("submit", notes, "--queue")
    assert ended.returncode == 1 and "note 2.flac: cannot be put into the storage" in ended.stderr
    assert "2 recordings queued" in ended.stderr, ended.stderr


@pytest.mark.parametrize(
    "name",
    [
        *("früh's (2) #1?v=2 100%.flac", "a::b.flac", "zip::c.flac", "x?versionId=3.flac"),
        *("+ &=.flac", "*[a].flac", "a%20b.flac", "\udcff.flac", "ré🪶.flac"),
    ],
)
def test_a_name_means_nothing_else_in_an_address(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    file = tmp_path / name
    file.write_bytes(b"sound")
    store = ObjectStore()
    with serving(store.application(), bound_socket(0)) as url:
        keys(url, monkeypatch)
        shared = SharedStorage("s3://marsh/shared")
        put = shared.put(Source(file), "sha256:" + "1" * 64)
        assert put.link is not None and len(store.objects) == 1
        files, path, _ = opened(put.link)
        assert files.cat_file(path) == b"sound" and shared.holds(put)
        shared.remove(put)
        outputs = StoredOutputs("s3://marsh/out")
        outputs.put(name.replace("\udcff", "x"), b"text")
        (written,) = store.objects
        assert written.startswith("marsh/out/")
        outputs.remove(name.replace("\udcff", "x"))
        assert not store.objects


def test_names_that_look_alike_in_an_address_are_told_apart(tmp_path: Path) -> None:
    names = {_name_in_address(Source(Path(name))) for name in ("a:b.wav", "a?b.wav", "a_b.wav")}
    assert len(names) == 3
