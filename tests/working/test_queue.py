"""The queue itself: whose turn it is, and that nothing is lost with it."""

import asyncio
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

import psycopg
import pytest

from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.store.database import LedgerError
from mantisreed.working import queue as queues
from mantisreed.working.queue import JobQueue, QueuedJob
from mantisreed.workspace import open_workspace
from outages import BreakingWay


class QueueSize(NamedTuple):
    """How many jobs of an engine wait, and how many are worked on."""

    waiting: int
    working: int


def sizes_of(url: str) -> dict[str, QueueSize]:
    counted = """
        SELECT queue_name, count(*) FILTER (WHERE status = 'todo'),
            count(*) FILTER (WHERE status = 'doing')
        FROM procrastinate_jobs GROUP BY queue_name
    """
    with psycopg.connect(url) as connection:
        rows = connection.execute(counted).fetchall()
    return {str(name).removeprefix("mantisreed."): QueueSize(*counts) for name, *counts in rows}


def handed(settings: Path, put: Sequence[Sequence[QueuedJob]], count: int) -> list[str]:
    """The first jobs that one worker is given, in order."""
    order: list[str] = []
    working: asyncio.Task[None]

    async def take(job: str, card: str) -> None:
        order.append(job)
        if len(order) >= count:
            working.cancel()

    async def work() -> None:
        nonlocal working
        async with JobQueue(open_workspace(settings)) as queue:
            for jobs in put:
                await queue.put(jobs, {"ferry": "card"})
            working = asyncio.create_task(queue.work(["ferry"], 1, take))
            await asyncio.gather(working, return_exceptions=True)

    asyncio.run(work())
    return order


def test_a_short_batch_waits_for_a_share_of_a_long_one_only(workspace: Path) -> None:
    long = [QueuedJob(f"long {number}", "ferry", -(number // 20)) for number in range(200)]
    short = [QueuedJob(f"short {number}", "ferry") for number in range(3)]
    order = handed(workspace, [long, short], 30)
    assert max(order.index(job.id) for job in short) < 25
    assert [job for job in order if job.startswith("long")] == [job.id for job in long[:27]]


def test_jobs_with_higher_priority_come_first_and_those_of_other_engines_stay(
    workspace: Path,
) -> None:
    jobs = [QueuedJob("a", "ferry"), QueuedJob("b", "ferry", 5), QueuedJob("c", "barge", 9)]
    assert handed(workspace, [jobs], 2) == ["b", "a"]


def test_what_no_queue_holds_is_found_in_the_ledger(
    workspace: Path, way: BreakingWay, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(queues, "_SETTLED_SECONDS", -1.0)
    opened = open_workspace(workspace)
    with closing(open_ledger(opened)) as ledger:
        for job in ("abc", "def"):
            assert ledger.jobs.queue(JobToOpen(job, "note.wav", "sha256:1", "ferry"), 7)
        ledger.jobs.open(JobToOpen("nobody queued it", "note.wav", "sha256:1", "ferry"))
        ledger.jobs.note("nobody queued it", "postponed")

    async def look() -> list[QueuedJob]:
        async with JobQueue(opened) as queue:
            await queue.put([QueuedJob("abc", "ferry")], {})
            return await queue.left_over()

    left, sizes = asyncio.run(look()), sizes_of(way.url)
    assert left == [QueuedJob("def", "ferry", 7)] and sizes == {"ferry": QueueSize(1, 0)}


def test_tables_of_another_version_and_a_database_that_is_away_are_told(
    workspace: Path, way: BreakingWay, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def opening() -> None:
        async with JobQueue(open_workspace(workspace)):
            pass

    asyncio.run(opening())
    with psycopg.connect(way.url, autocommit=True) as connection:
        connection.execute("ALTER FUNCTION procrastinate_fetch_job_v2 RENAME TO another")
    with pytest.raises(LedgerError, match="of another version"):
        asyncio.run(opening())
    way.is_away = True
    way.cut()
    monkeypatch.setattr("mantisreed.working.queue._OPENING_SECONDS", 2.0)
    with pytest.raises(LedgerError, match="cannot be used: it does not answer in 2 s"):
        asyncio.run(opening())
