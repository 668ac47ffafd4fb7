"""Folders that are watched: each recording once, when it is complete, whatever happens
meanwhile.
"""

import asyncio
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import pytest

from cli.ferry import Ferry
from conftest import Command
from mantisreed.files import FileState
from mantisreed.pipeline.incoming.watching import WatchHooks, WatchOptions, _Keeper, watch
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.sources import watching as watching_module
from mantisreed.sources.recordings import Selection, Source, recordings_in
from mantisreed.sources.watching import FolderWatch, WatchMemory
from mantisreed.workspace import open_workspace

QUICK = ("--settle-time", "0.3s", "--until-idle", "1.5s", "--to", "txt")


@pytest.fixture
def inbox(tmp_path: Path, recordings: Path, ferry: Ferry) -> Iterator[Path]:
    """An empty folder that is watched; two recordings lie beside it."""
    (tmp_path / "inbox").mkdir()
    with ferry.sailing(tmp_path):
        yield tmp_path / "inbox"


def sounds(inbox: Path) -> list[bytes]:
    return [path.read_bytes() for path in sorted((inbox.parent / "recordings").glob("*.flac"))]


def test_what_is_there_and_what_comes_is_done_once_it_is_complete(
    inbox: Path, ferry: Ferry, mantisreed: Command
) -> None:
    first, second = sounds(inbox)
    (inbox / "first.flac").write_bytes(first)

    def drop() -> None:
        time.sleep(0.8)
        with (inbox / "growing.flac").open("wb") as sink:
            for at in range(0, len(second), len(second) // 6):
                sink.write(second[at : at + len(second) // 6])
                sink.flush()
                time.sleep(0.1)
        (inbox / "half.flac.part").write_bytes(first[:1000])
        (inbox / "bad.wav").write_bytes(b"no sound")
        (inbox / "deep").mkdir()

    thread = threading.Thread(target=drop)
    thread.start()
    # Longer than a busy machine takes to see what is dropped.
    patient = (*QUICK, "--until-idle", "5s")
    ended = mantisreed("watch", "inbox", "--move-done", "archive", *patient)
    thread.join()
    assert ended.returncode == 1
    assert sorted(line.split("  ")[1] for line in ended.stdout.splitlines()) == [
        "done",
        "done",
        "failed",
    ]
    assert sum(ferry.asked.values()) == 2, "nothing was sent while it grew"
    assert sorted(path.name for path in (inbox.parent / "archive").iterdir()) == [
        "first.flac",
        "growing.flac",
    ]
    assert sorted(path.name for path in (inbox.parent / "transcripts").iterdir()) == [
        "first.txt",
        "growing.txt",
    ]
    assert (inbox / "bad.wav").exists() and (inbox / "half.flac.part").exists()


def test_the_next_watch_goes_on_where_the_last_one_was(
    inbox: Path, ferry: Ferry, mantisreed: Command
) -> None:
    first, second = sounds(inbox)
    (inbox / "first.flac").write_bytes(first)
    assert mantisreed("watch", "inbox", *QUICK).returncode == 0
    (inbox / "second.flac").write_bytes(second)
    (inbox.parent / "transcripts" / "first.txt").unlink()
    ended = mantisreed("watch", "inbox", *QUICK)
    assert [line.split("  ")[2] for line in ended.stdout.splitlines()] == ["inbox/second.flac"]
    assert not (inbox.parent / "transcripts" / "first.txt").exists(), "it was done with"
    (inbox / "first.flac").write_bytes(second)
    assert len(mantisreed("watch", "inbox", *QUICK).stdout.splitlines()) == 1, (
        "it is another recording now"
    )
    assert sum(ferry.asked.values()) == 2, "whose sound was known"


def watching(inbox: Path) -> "subprocess.Popen[str]":
    return subprocess.Popen(
        [
            sys.executable,
            "-m",
            "mantisreed",
            "watch",
            "inbox",
            "--settle-time",
            "0.2s",
            "--to",
            "txt",
        ],
        cwd=inbox.parent,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def wait_for(condition: object, seconds: float = 30.0) -> None:
    until = time.monotonic() + seconds
    while not condition():  # type: ignore[operator]
        assert time.monotonic() < until
        time.sleep(0.05)


def test_it_is_stopped_without_losing_anything(inbox: Path, ferry: Ferry) -> None:
    ferry.slowness = 1.0
    with watching(inbox) as process:
        (inbox / "first.flac").write_bytes(sounds(inbox)[0])
        wait_for(lambda: ferry.asked)
        process.terminate()
        out, errors = process.communicate(timeout=30)
    assert process.returncode == 0, errors
    assert "Traceback" not in errors
    assert (inbox.parent / "transcripts" / "first.txt").exists() and "done" in out


def test_it_is_killed_and_goes_on_and_nothing_that_was_answered_is_paid_for_again(
    inbox: Path, ferry: Ferry, mantisreed: Command
) -> None:
    sound = sounds(inbox)[0]
    ferry.slowness = 0.2
    with watching(inbox) as process:
        for number in range(12):
            (inbox / f"{number}.flac").write_bytes(sound[:-1] + bytes([number]))
        wait_for(lambda: len(list((inbox.parent / ".mantisreed").rglob("*.jsonl"))) == 1)
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
    assert mantisreed("watch", "inbox", *QUICK).returncode == 0
    assert len(list((inbox.parent / "transcripts").iterdir())) == 12
    jobs = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
    assert len(jobs) == 12 and {job["state"] for job in jobs} == {"done"}


def test_what_waits_for_an_engine_is_tried_again(inbox: Path, ferry: Ferry) -> None:
    ferry.faults = ["key"]
    (inbox / "first.flac").write_bytes(sounds(inbox)[0])
    outcomes: list[Outcome] = []
    notes: list[str] = []
    watch(
        [inbox],
        open_workspace(inbox.parent / "mantisreed.toml"),
        watching=WatchOptions(until_idle=1.0, settle_time=0.2, again=0.4),
        hooks=WatchHooks(on_outcome=outcomes.append, on_note=notes.append),
    )
    assert [outcome.state for outcome in outcomes] == ["failed", "done"]
    assert notes == ["1 wait; tried again in 0 s"]


def test_a_spend_limit_is_for_all_that_is_watched(
    inbox: Path, ferry: Ferry, mantisreed: Command
) -> None:
    for number in range(6):  # a minute each, at a hundredth of a shell
        (inbox / f"{number}.flac").write_bytes(sounds(inbox)[0] + bytes(number))
    ended = mantisreed("watch", "inbox", "--spend-limit", "0.025", *QUICK)
    assert ended.returncode == 3 and "the spend limit is reached" in ended.stderr
    assert sum(ferry.answered.values()) == 2


def test_a_watch_looks_at_each_state_of_a_file_once(tmp_path: Path) -> None:
    folder, found = tmp_path / "in", list[Source]()
    folder.mkdir()
    memory = WatchMemory(tmp_path / ".mantisreed", [folder])
    looking = FolderWatch(
        [folder],
        Selection(exclude=("no*",)),
        memory,
        lambda source, state: found.append(source),
        settle=0.1,
    )
    for name in ("a.wav", "not.wav", "a.txt"):
        (folder / name).write_bytes(b"x")
    looking.start()
    try:
        wait_for(lambda: len(found) == 1, 5)
        time.sleep(0.3)
        assert [source.name for source in found] == ["a.wav"]
        memory.note(Source(folder / "a.wav"), FileState.of(folder / "a.wav"))
        (folder / "a.wav").write_bytes(b"xyz")
        wait_for(lambda: len(found) == 2, 5)
        (folder / "a.wav").rename(folder / "b.wav")
        wait_for(lambda: len(found) == 3, 5)
    finally:
        looking.stop()
    assert WatchMemory(tmp_path / ".mantisreed", [folder])._known == memory._known


def test_a_watched_folder_that_was_moved_is_known(tmp_path: Path) -> None:
    before, after = tmp_path / "before", tmp_path / "after"
    (before / "in").mkdir(parents=True)
    (before / "in" / "a.wav").write_bytes(b"x")
    state = FileState.of(before / "in" / "a.wav")
    memory = WatchMemory(before / ".mantisreed", [before / "in"])
    memory.note(Source(before / "in" / "a.wav"), state)
    before.rename(after)
    moved = WatchMemory(after / ".mantisreed", [after / "in"])
    assert moved.knows(Source(after / "in" / "a.wav"), state)
    assert not moved.knows(Source(after / "in" / "b.wav"), state)


def test_a_file_that_somebody_has_open_is_not_complete_however_long_he_pauses(
    inbox: Path, ferry: Ferry, mantisreed: Command
) -> None:
    (content, _) = sounds(inbox)

    def write() -> None:
        with (inbox / "slow.flac").open("wb") as sink:
            sink.write(content[: len(content) // 2])
            sink.flush()
            time.sleep(2.0)  # longer than files take to settle
            sink.write(content[len(content) // 2 :])

    thread = threading.Thread(target=write)
    thread.start()
    ended = mantisreed("watch", "inbox", "--move-done", "archive", *QUICK)
    thread.join()
    assert ended.returncode == 0, ended.stderr
    assert [line.split("  ")[1] for line in ended.stdout.splitlines()] == ["done"]
    assert (inbox.parent / "archive" / "slow.flac").read_bytes() == content
    assert list(ferry.asked.values()) == [1], "half of it was never sent"


def test_an_incomplete_recording_stays_and_is_taken_again_when_it_grows(
    inbox: Path, ferry: Ferry, mantisreed: Command
) -> None:
    (content, _) = sounds(inbox)
    (inbox / "torn.flac").write_bytes(content[: len(content) * 2 // 3])
    torn = mantisreed("watch", "inbox", "--move-done", "archive", *QUICK)
    assert [line.split("  ")[1] for line in torn.stdout.splitlines()] == ["incomplete"]
    assert (inbox / "torn.flac").exists() and not list((inbox.parent / "archive").iterdir())
    with (inbox / "torn.flac").open("ab") as sink:
        sink.write(content[len(content) * 2 // 3 :])
    whole = mantisreed("watch", "inbox", "--move-done", "archive", *QUICK)
    assert [line.split("  ")[1] for line in whole.stdout.splitlines()] == ["done"]
    assert (inbox.parent / "archive" / "torn.flac").read_bytes() == content


def test_places_that_cannot_be_read_are_told_at_once_and_the_rest_goes_on(
    inbox: Path, ferry: Ferry, mantisreed: Command
) -> None:
    (content, _) = sounds(inbox)
    (inbox / "first.flac").write_bytes(content)
    addresses = ("missing", "memory://nowhere/at-all", "http://127.0.0.1:9/feed.xml")
    ended = mantisreed("watch", "inbox", *addresses, *QUICK, "--poll-interval", "0.2s")
    assert ended.returncode == 1
    assert "done  inbox/first.flac" in ended.stdout
    for place, told in zip(
        addresses, ("this is no folder", "no such place", "cannot be fetched"), strict=True
    ):
        assert ended.stderr.count(f"{place}: ") == 1 and told in ended.stderr, ended.stderr
    assert "1 done, 0 failed, 3 not readable: " in ended.stderr


def test_an_event_makes_nobody_look_through_all_files(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder, found, looks = tmp_path / "in", list[Source](), list[Path]()
    folder.mkdir()
    for number in range(50):
        (folder / f"{number}.wav").write_bytes(b"x")
        os.utime(folder / f"{number}.wav", (0, 0))

    def counted(place: Path, selection: Selection) -> Iterator[Source]:
        looks.append(place)
        return recordings_in(place, selection)

    monkeypatch.setattr(watching_module, "recordings_in", counted)
    memory = WatchMemory(tmp_path / ".mantisreed", [folder])
    looking = FolderWatch(
        [folder], Selection(), memory, lambda source, state: found.append(source), settle=0.1
    )
    looking.start()
    try:
        wait_for(lambda: len(found) == 50, 5)
        for number in range(5):
            (folder / f"new{number}.wav").write_bytes(b"xy")
            wait_for(lambda: len(found) == 51 + number, 5)  # noqa: B023
    finally:
        looking.stop()
    assert len(looks) == 1


def test_wrong_uses_are_told(inbox: Path, mantisreed: Command) -> None:
    for arguments, told in (
        (("missing",), "this is no folder"),
        (("inbox", "--move-done", "inbox"), "moved to where they are"),
        (("inbox", "--settle-time", "soon"), "--settle-time"),
    ):
        ended = mantisreed("watch", *arguments)
        assert ended.returncode == 2 and told in ended.stderr


def test_what_comes_when_it_has_ended_is_left_to_the_next_watch(
    inbox: Path, ferry: Ferry, mantisreed: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    late = inbox / "late.flac"
    late.write_bytes(sounds(inbox)[0])

    async def end_at_once(keeper: _Keeper, *_: object) -> None:
        keeper._runner.end()
        keeper._come(Source(late), FileState.of(late))

    with monkeypatch.context() as patch:
        patch.setattr(_Keeper, "_end_when_idle", end_at_once)
        ended = mantisreed("watch", "inbox", *QUICK)
    assert ended.returncode == 0 and "late.flac" not in ended.stdout and not ferry.asked
    assert "late.flac" in mantisreed("watch", "inbox", *QUICK).stdout


def test_an_idle_time_begins_when_nothing_is_waited_for_any_more() -> None:
    limit, ended = 0.4, []
    a_file = SimpleNamespace(is_waiting_for_files=True)

    async def end() -> float:
        watching = WatchOptions(until_idle=limit)
        keeper = _Keeper(None, None, None, watching, WatchHooks(), [], [])  # type: ignore[arg-type]
        keeper._runner = SimpleNamespace(end=lambda: ended.append(True))  # type: ignore[assignment]
        keeper._last = time.monotonic() - 60.0
        ending = asyncio.create_task(keeper._end_when_idle(a_file))  # type: ignore[arg-type]
        await asyncio.sleep(limit)
        # It is complete, and on its way to the keeper.
        a_file.is_waiting_for_files, began = False, time.monotonic()
        await ending
        return time.monotonic() - began

    assert asyncio.run(end()) > limit / 4 and ended == [True]


def test_a_watch_that_has_not_looked_yet_waits_for_files(tmp_path: Path) -> None:
    memory = WatchMemory(tmp_path / ".mantisreed", [tmp_path])
    looking = FolderWatch([tmp_path], Selection(), memory, lambda source, state: None)
    assert looking.is_waiting_for_files
    looking.start()
    try:
        deadline = time.monotonic() + 20
        while looking.is_waiting_for_files:
            assert time.monotonic() < deadline
            time.sleep(0.02)
    finally:
        looking.stop()
