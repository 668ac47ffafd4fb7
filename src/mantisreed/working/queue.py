"""The queue of recordings that workers take, in the ledger's own PostgreSQL database.

procrastinate hands each job to one worker, wakes workers when something comes, and knows which of
them are alive. It only says which job is worked on where and when: the ledger stays the truth, a
job that is handed out twice is done once, and a queue that is lost is filled again from it.
"""

import asyncio
import logging
import re
from collections.abc import Awaitable, Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

from mantisreed.errors import InputError, reason_of
from mantisreed.extras import from_extra
from mantisreed.jobs.ledger import place_of_ledger
from mantisreed.jobs.store.database import LedgerError
from mantisreed.jobs.store.postgresql import PostgresqlDatabase
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from procrastinate import App

# It writes a traceback for each beat that an outage of the database swallows; what matters is told
# by the worker.
logging.getLogger("procrastinate").setLevel(logging.CRITICAL)

_TASK = "mantisreed.recording"
_QUEUE = "mantisreed."  # before the name of an engine: workers take those whose cards they have
_BEAT_SECONDS = 2.0  # between two signs of life of a worker
_OPENING_SECONDS = 15.0  # for the first connection; as long as the ledger waits for its own
_LEASE_SECONDS = 10.0  # without one, until its jobs are given to others
_LOOK_SECONDS = 1.0  # between two looks at the queue, where a notice of it was lost
_SETTLED_SECONDS = 20.0  # for which a job must not have changed, to be called left over
_TOGETHER = 500  # jobs in one statement
_LEFT_OVER = """
SELECT id, engine, queued FROM job
WHERE queued IS NOT NULL AND owner IS NULL
    AND state IN ('waiting', 'sending', 'working', 'unconfirmed')
    AND changed < extract(epoch FROM clock_timestamp()) - %(settled)s
    AND NOT EXISTS (
        SELECT 1 FROM procrastinate_jobs WHERE lock = job.id AND status IN ('todo', 'doing')
    )
LIMIT %(most)s
"""
_IS_READY = """
SELECT EXISTS (
    SELECT 1 FROM procrastinate_jobs AS job
    WHERE job.task_name = %(task)s AND job.queue_name = ANY(%(queues)s) AND job.status = 'todo'
        AND (job.scheduled_at IS NULL OR job.scheduled_at <= now())
        AND NOT EXISTS (
            SELECT 1 FROM procrastinate_jobs AS other
            WHERE other.lock = job.lock AND other.status = 'doing'
        )
) AS is_ready
"""


@dataclass(frozen=True, slots=True)
class QueuedJob:
    """A job that waits for a worker.

    Attributes:
        id: in the ledger.
        engine: name of its card.
        priority: those with higher numbers come first.
    """

    id: str
    engine: str
    priority: int = 0


class JobQueue:
    """The queue beside one ledger; open while the context is."""

    def __init__(self, workspace: Workspace) -> None:
        """Open nothing yet.

        Raises:
            InputError: the ledger is no PostgreSQL database, or the queue is not installed.
        """
        url, password = place_of_ledger(workspace)
        if url is None:
            raise InputError(
                "a queue needs a ledger in PostgreSQL, which several machines can use",
                where="[ledger] url",
                advice="`mantisreed docs scaling` shows how; on one machine `run` needs no queue",
            )
        with from_extra("queue", "the queue"):
            import procrastinate
        database = PostgresqlDatabase(url, password)
        self.where = database.where
        connector = procrastinate.PsycopgConnector(
            conninfo=database.conninfo,
            min_size=1,
            # A pooler gives each transaction another connection, which would not know them.
            kwargs={"prepare_threshold": None},
        )
        self._app: App = procrastinate.App(connector=connector)
        self._take: Callable[[str, str], Awaitable[float | None]] | None = None
        self._app.task(name=_TASK, pass_context=True)(self._handed)

    async def __aenter__(self) -> Self:
        """Connect, and make the queue's tables if there are none.

        Raises:
            LedgerError: the database cannot be reached, or the tables are of another version.
        """
        try:
            async with asyncio.timeout(_OPENING_SECONDS):
                await self._app.open_async()
            await self._prepare()
        except LedgerError:
            await self._app.close_async()
            raise
        except TimeoutError as error:
            what = f"it does not answer in {_OPENING_SECONDS:g} s"
            raise LedgerError(f"the queue cannot be used: {what}", where=self.where) from error
        except Exception as error:
            raise self._unusable(error) from error
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        """Disconnect."""
        with suppress(Exception):  # the database may be away
            await self._app.close_async()

    async def _prepare(self) -> None:
        if not await self._has_tables():
            try:
                await self._app.schema_manager.apply_schema_async()
            except Exception:
                # Another process may have made them meanwhile.
                if not await self._has_tables():
                    raise
        from procrastinate import sql

        # Its functions have numbers, which is how its versions tell each other apart.
        named = set(re.findall(r"\b(procrastinate_\w+_v\d+)\(", " ".join(sql.queries.values())))
        known = await self._rows(
            "SELECT proname FROM pg_proc WHERE proname = ANY(%(names)s)", names=sorted(named)
        )
        if missing := named - {row["proname"] for row in known}:
            raise LedgerError(
                f"the queue's tables are of another version ({min(missing)} is not there)",
                where=self.where,
                advice="install the same version of procrastinate on all machines",
            )

    async def _has_tables(self) -> bool:
        (row,) = await self._rows("SELECT to_regclass('procrastinate_jobs') IS NOT NULL AS found")
        return bool(row["found"])

    async def _rows(self, statement: str, **values: Any) -> list[dict[str, Any]]:
        connector: Any = self._app.connector
        rows: list[dict[str, Any]] = await connector.execute_query_all_async(statement, **values)
        return rows

    def _unusable(self, error: Exception) -> LedgerError:
        cause = error.__cause__ or error
        return LedgerError(f"the queue cannot be used: {reason_of(cause)}", where=self.where)

    async def put(
        self,
        jobs: Sequence[QueuedJob],
        cards: Mapping[str, str],
        *,
        not_before: float | None = None,
    ) -> None:
        """Let workers take jobs.

        Args:
            jobs: that are noted in the ledger.
            cards: digests of the engines' cards, by name: a worker with another card leaves them.
            not_before: seconds since 1970; None for now.

        Raises:
            LedgerError: the database cannot be reached.
        """
        from procrastinate.jobs import Job

        due = None if not_before is None else datetime.fromtimestamp(not_before, UTC)
        queued = [
            Job(
                queue=f"{_QUEUE}{job.engine}",
                # No two workers have the same job at once, however often it is in the queue.
                lock=job.id,
                queueing_lock=None,
                priority=job.priority,
                task_name=_TASK,
                task_kwargs={"job": job.id, "card": cards.get(job.engine, "")},
                scheduled_at=due,
            )
            for job in jobs
        ]
        try:
            for first in range(0, len(queued), _TOGETHER):
                part = queued[first : first + _TOGETHER]
                await self._app.job_manager.batch_defer_jobs_async(jobs=part)
        except Exception as error:
            raise self._unusable(error) from error

    async def left_over(self) -> list[QueuedJob]:
        """Jobs that are open in the ledger, and that nobody has and no queue holds.

        Raises:
            LedgerError: the database cannot be reached.
        """
        try:
            rows = await self._rows(_LEFT_OVER, settled=_SETTLED_SECONDS, most=_TOGETHER)
        except Exception as error:
            raise self._unusable(error) from error
        return [QueuedJob(row["id"], row["engine"], row["queued"]) for row in rows]

    async def has_ready(self, engines: Sequence[str]) -> bool:
        """Whether jobs wait that a worker with these engines could take now.

        Raises:
            LedgerError: the database cannot be reached.
        """
        queues = [f"{_QUEUE}{engine}" for engine in engines]
        try:
            (row,) = await self._rows(_IS_READY, task=_TASK, queues=queues)
        except Exception as error:
            raise self._unusable(error) from error
        return bool(row["is_ready"])

    async def take_back(self) -> int:
        """Give the jobs of workers that have died to others; how many there were.

        Raises:
            LedgerError: the database cannot be reached.
        """
        manager = self._app.job_manager
        try:
            stalled = await manager.get_stalled_jobs(
                task_name=_TASK, seconds_since_heartbeat=_LEASE_SECONDS
            )
            count = 0
            for job in stalled:
                with suppress(Exception):  # another worker has done so at the same moment
                    await manager.retry_job(job)
                    count += 1
        except Exception as error:
            raise self._unusable(error) from error
        return count

    async def work(
        self,
        engines: Sequence[str],
        at_once: int,
        take: Callable[[str, str], Awaitable[float | None]],
    ) -> None:
        """Hand out jobs until this is cancelled; then wait for those that were handed out.

        Args:
            engines: whose jobs are taken.
            at_once: so many.
            take: called with a job's id and the digest of its card; gives the seconds until it is
                to be handed out again, None when there is nothing more to do.

        Raises:
            LedgerError: the database went away; what was handed out goes on.
        """
        self._take = take
        try:
            await self._app.run_worker_async(
                queues=[f"{_QUEUE}{engine}" for engine in engines],
                concurrency=at_once,
                delete_jobs="always",
                install_signal_handlers=False,
                fetch_job_polling_interval=_LOOK_SECONDS,
                update_heartbeat_interval=_BEAT_SECONDS,
                stalled_worker_timeout=_LEASE_SECONDS,
            )
        except asyncio.CancelledError:
            raise
        except Exception as error:
            raise self._unusable(error) from error
        raise LedgerError("the queue is away", where=self.where)

    async def _handed(self, context: Any, job: str, card: str) -> None:
        assert self._take is not None
        seconds = await self._take(job, card)
        if seconds is None:
            return
        # This place in the queue ends when we return; the new one waits until the time has come.
        engine = context.job.queue.removeprefix(_QUEUE)
        again = QueuedJob(job, engine, context.job.priority)
        await self.put([again], {engine: card}, not_before=datetime.now(UTC).timestamp() + seconds)
