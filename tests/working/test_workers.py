"""Workers on one queue do all that was queued, once, whatever becomes of some of them."""

import json
import shutil
import signal
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest

from browser import wait_until
from cli.ferry import Ferry, outputs
from conftest import Command
from mantisreed.jobs.ledger import open_ledger
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.working import worker
from mantisreed.workspace import open_workspace
from outages import BreakingWay
from working.conftest import on_another_machine

pytestmark = pytest.mark.timeout(180)


def queued(mantisreed: Command, *more: str | Path) -> list[str]:
    """The ids of the jobs that are queued."""
    ended = mantisreed("submit", "notes", "--queue", *more)
    assert ended.returncode == 0, ended.stderr
    return ended.stdout.split()


def states(mantisreed: Command) -> set[str]:
    found = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
    return {job["state"] for job in found}


def working(folder: Path, *more: str) -> "subprocess.Popen[str]":
    command = [sys.executable, "-m", "mantisreed", "work", *more]
    return subprocess.Popen(
        command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )


def test_what_is_queued_is_worked_on_once_and_each_file_has_its_outputs(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path
) -> None:
    ids = queued(mantisreed)
    assert len(set(ids)) == 6 and not ferry.asked and states(mantisreed) == {"waiting"}
    # Whatever time it takes to come to them: nobody is idle while something waits.
    ended = mantisreed("work", "--until-idle", "50ms")
    assert ended.returncode == 0 and "6 done, 0 failed" in ended.stderr, ended.stderr
    assert set(ferry.answered.values()) == {1} and len(ferry.answered) == 5
    assert len(outputs(tmp_path)) == 12 and states(mantisreed) == {"done"}
    again = mantisreed("submit", "notes", "--queue")
    assert again.stdout.split() == ids and "0 recordings queued" in again.stderr
    assert "6 done before" in again.stderr


def test_the_same_sound_in_two_files_has_outputs_of_both_however_they_are_queued(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path
) -> None:
    names = ("notes/note 0.flac", "notes/note 5.flac")
    ids = [mantisreed("submit", name, "--queue").stdout.strip() for name in names]
    assert len(set(ids)) == 2
    assert "2 done" in mantisreed("work", "--until-idle", "1s").stderr
    written = outputs(tmp_path)
    assert written["note 0.txt"] == written["note 5.txt"]
    assert set(ferry.answered.values()) == {1} and len(ferry.answered) == 1
    again = [mantisreed("submit", name, "--queue") for name in names]
    assert [one.stdout.strip() for one in again] == ids
    assert all("1 done before" in one.stderr for one in again)


def test_outputs_are_those_of_a_run(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path
) -> None:
    assert mantisreed("run", "notes").returncode == 0
    plain = outputs(tmp_path)
    shutil.rmtree(tmp_path / "transcripts")
    queued(mantisreed, "--into", "queued")
    assert mantisreed("work", "--until-idle", "1s").returncode == 0
    # What is answered is not asked again, by whatever way it comes.
    assert set(ferry.answered.values()) == {1}
    texts = {name: text for name, text in plain.items() if name.endswith(".txt")}
    found = outputs(tmp_path, "queued")
    assert {name: found[name] for name in texts} == texts


def test_two_workers_share_what_is_queued_and_a_killed_ones_jobs_are_taken_over(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path
) -> None:
    ferry.slowness = 2.0
    with working(tmp_path, "--max-recordings", "2") as first:
        queued(mantisreed)
        wait_until(lambda: len(ferry.asked) >= 2, 30)
        first.kill()
    ferry.slowness = 0.0
    with working(tmp_path, "--until-idle", "14s") as second:
        _, told = second.communicate(timeout=90)
    assert second.returncode == 0, told
    assert states(mantisreed) == {"done"} and len(outputs(tmp_path)) == 12
    with closing(open_ledger(open_workspace(workspace))) as ledger:
        doubtful = sum(job.unconfirmed for job in ledger.listing.jobs())
    assert sum(ferry.answered.values()) - 5 <= doubtful <= 2


def test_an_outage_of_the_database_costs_time_only(
    workspace: Path,
    notes: Path,
    way: BreakingWay,
    ferry: Ferry,
    mantisreed: Command,
    tmp_path: Path,
) -> None:
    ferry.slowness = 1.0
    queued(mantisreed)
    with working(tmp_path, "--max-recordings", "2", "--until-idle", "4s") as process:
        wait_until(lambda: bool(ferry.asked), 30)
        way.is_away = True
        way.cut()
        time.sleep(3)
        way.is_away = False
        _, told = process.communicate(timeout=90)
    assert process.returncode == 0 and "waiting until it is back" in told, told
    assert states(mantisreed) == {"done"} and set(ferry.answered.values()) == {1}
    assert "Traceback" not in told


@pytest.mark.parametrize("by", ["signal", "drain"])
def test_a_worker_that_is_asked_to_end_finishes_what_it_has(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path, by: str
) -> None:
    ferry.slowness = 3.0
    queued(mantisreed)
    with working(tmp_path, "--max-recordings", "1") as process:
        wait_until(lambda: bool(ferry.asked), 30)
        if by == "signal":
            process.send_signal(signal.SIGTERM)
        else:
            told = mantisreed("work", "--drain").stderr
            assert "1 worker on this machine asked to end" in told
        said, _ = process.communicate(timeout=60)
    assert "done" in said and len(ferry.asked) == 1
    assert states(mantisreed) == {"done", "waiting"}
    ferry.slowness = 0.0
    assert mantisreed("work", "--until-idle", "12s").returncode == 0
    assert states(mantisreed) == {"done"} and set(ferry.answered.values()) == {1}


def test_a_worker_with_another_card_leaves_a_job_to_others(
    workspace: Path,
    notes: Path,
    ferry: Ferry,
    mantisreed: Command,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(worker, "_NOT_HERE", 1.0)
    queued(mantisreed)
    right = workspace.read_text()
    workspace.write_text(right.replace('per_minute = "0.01"', 'per_minute = "0.02"'))
    ended = mantisreed("work", "--until-idle", "600ms")
    assert "its card here is not the one" in ended.stderr and not ferry.asked
    workspace.write_text(right)
    assert "6 done" in mantisreed("work", "--until-idle", "2s").stderr


def test_a_recording_that_cannot_be_read_fails_alone(
    workspace: Path, notes: Path, mantisreed: Command
) -> None:
    (notes / "broken.flac").write_bytes(b"fLaC, but no more")
    queued(mantisreed)
    (notes / "note 1.flac").unlink()
    (notes / "note 2.flac").write_bytes((notes / "note 3.flac").read_bytes())
    ended = mantisreed("work", "--until-idle", "1s")
    assert ended.returncode == 1 and "4 done, 3 failed" in ended.stderr, ended.stderr
    reasons = " ".join(
        job["reason"] or "" for job in json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
    )
    assert "is not there any more" in reasons and "was changed since" in reasons


def test_what_may_be_spent_holds_for_all_workers(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command
) -> None:
    queued(mantisreed, "--spend-limit", "0.0025")
    mantisreed("work", "--until-idle", "1s", "--max-recordings", "1")
    first = len(ferry.answered)
    assert first in (1, 2, 3)
    mantisreed("work", "--until-idle", "1s")
    assert len(ferry.answered) == first


def test_other_machines_folders_are_left_alone(
    workspace: Path,
    notes: Path,
    ferry: Ferry,
    mantisreed: Command,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    queued(mantisreed)
    elsewhere = on_another_machine(workspace)
    other = Path(elsewhere[1]).parent
    monkeypatch.setattr(worker, "_NOT_HERE", 1.0)
    monkeypatch.setattr("mantisreed.state.this_machine", lambda: "another machine")
    ended = mantisreed("work", "--until-idle", "600ms", *elsewhere)
    assert "in a folder of another machine" in ended.stderr and not ferry.asked
    retried = mantisreed("retry", *elsewhere)
    assert retried.returncode == 1 and "in a folder of another machine" in retried.stderr
    assert not ferry.asked and not (other / "transcripts").exists()
    # The folder of the settings is shared: then its paths are everybody's.
    assert "6 done" in mantisreed("work", "--until-idle", "2s").stderr


def test_one_machine_needs_no_queue_and_is_told_so(
    ferry: Ferry, notes: Path, mantisreed: Command, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        for command in (("submit", "notes", "--queue"), ("work",)):
            ended = mantisreed(*command)
            assert ended.returncode == 2 and "a queue needs a ledger in PostgreSQL" in ended.stderr


@pytest.mark.parametrize(
    ("more", "told"),
    [
        (("-",), "standard input cannot be queued"),
        (("notes", "--afresh"), "neither --afresh nor --overwrite"),
        (("notes", "--engine", "heron"), "heron"),
        (("notes", "--priority", "900"), "from -100 to 100"),
    ],
)
def test_what_cannot_be_queued_is_told_at_once(
    workspace: Path, notes: Path, mantisreed: Command, more: tuple[str, ...], told: str
) -> None:
    ended = mantisreed("submit", "--queue", *more)
    assert ended.returncode == 2 and told in ended.stderr, ended.stderr


def test_a_watched_folder_is_queued_as_it_fills(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command, way: BreakingWay
) -> None:
    watching = ("watch", "notes", "--queue", "--settle-time", "100ms", "--until-idle", "1s")
    ended = mantisreed(*watching)
    assert ended.returncode == 0 and "6 queued, 0 done, 0 failed" in ended.stderr, ended.stderr
    assert ended.stdout.count("  queued  ") == 6 and not ferry.asked
    again = mantisreed(*watching)
    assert "0 queued" in again.stderr  # each is known
    assert "6 done" in mantisreed("work", "--until-idle", "1s").stderr
    refused = mantisreed("watch", "notes", "--queue", "--move-done", "archive")
    assert refused.returncode == 2 and "--move-done" in refused.stderr


def test_what_comes_to_a_watched_folder_waits_for_a_database_that_is_away(
    workspace: Path, notes: Path, mantisreed: Command, way: BreakingWay, tmp_path: Path
) -> None:
    assert mantisreed("submit", "notes/note 1.flac", "--queue").returncode == 0
    watching = ("watch", "notes", "--queue", "--settle-time", "1500ms", "--until-idle", "2s")
    command = [sys.executable, "-m", "mantisreed", *watching]
    with subprocess.Popen(
        command, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    ) as process:
        time.sleep(1.0)
        way.is_away = True
        way.cut()
        time.sleep(4.0)
        way.is_away = False
        said, told = process.communicate(timeout=90)
    assert process.returncode == 0 and said.count("  queued  ") >= 5, (said, told)


def test_a_worker_sends_nothing_more_of_a_job_that_is_cancelled(
    workspace: Path,
    notes: Path,
    english: list[Phrase],
    ferry: Ferry,
    mantisreed: Command,
    tmp_path: Path,
) -> None:
    settings = workspace.read_text()
    one_by_one = "[engine.ferry]\nmax_concurrent = 1\n"
    workspace.write_text(settings.replace("[engine.ferry]\n", one_by_one))
    compose(english, seed=720, duration=80).write(tmp_path / "long.flac")
    ferry.slowness = 1.0
    queued = mantisreed("submit", "long.flac", "--queue", "--piece-length", "10s")
    job = queued.stdout.strip()
    worker = working(tmp_path)
    try:
        wait_until(lambda: bool(ferry.asked), 30.0)
        told = mantisreed("cancel", job)
        assert told.returncode == 0, told.stderr
        time.sleep(5.0)  # it looks every two seconds, and one request is on its way
        sent = ferry.asked.total()
        assert sent <= 5
        time.sleep(2.0)
        assert ferry.asked.total() == sent and states(mantisreed) == {"cancelled"}
    finally:
        worker.terminate()
        worker.communicate(timeout=30)
    # What was answered is kept: the rest is done when somebody wants it after all.
    ferry.slowness = 0.0
    assert mantisreed("retry", job).returncode == 0
    assert states(mantisreed) == {"done"} and set(ferry.answered.values()) == {1}
