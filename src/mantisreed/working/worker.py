"""One worker: takes jobs from the queue, one machine of any number."""

import asyncio
import logging
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.errors import InputError, InternalError, MantisreedError, PostponedError
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.life import JobEvent
from mantisreed.jobs.records import Filter, JobRecord
from mantisreed.jobs.store.database import LedgerError
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.incoming.storage_cache import StorageCache
from mantisreed.pipeline.options import stored_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.sent_jobs.choosing import ElsewhereError, path_of
from mantisreed.running import interruptible, run_interruptibly
from mantisreed.sources.recordings import Source
from mantisreed.working.cards import digests_of_cards
from mantisreed.working.lanes import Lanes
from mantisreed.working.queue import JobQueue
from mantisreed.workspace import Workspace

_log = logging.getLogger(__name__)

_AGAIN = 60.0  # seconds until what waits for an engine is tried again, where nobody says when
_NOT_HERE = 10.0  # seconds until a job is handed out again that this worker cannot do
_LOOK = 0.1  # seconds between two looks at whether it is idle
_UPKEEP = 2.0  # seconds between two looks for dead workers
_SWEEP = 30.0  # seconds between two looks for jobs that were left over
_PATIENCE = 600.0  # seconds for which a database that went away is waited for
_ENDED = frozenset(("done", "failed", "cancelled"))
_MOST_AT_ONCE = 200  # recordings; more would only wait for each other


@dataclass(frozen=True, slots=True)
class WorkOptions:
    """How a worker works.

    Attributes:
        engines: names of those whose jobs it takes; none means all in the settings.
        most: recordings at once; None for as many as its engines take.
        until_idle: seconds after which it ends when there is nothing to do; None goes on for ever.
    """

    engines: Sequence[str] = ()
    most: int | None = None
    until_idle: float | None = None


@dataclass(slots=True)
class WorkHooks:
    """Who is told what.

    Attributes:
        on_outcome: called with what became of each recording.
        on_event: called as recordings move along.
        on_note: called with what else there is to say.
    """

    on_outcome: Callable[[Outcome], None] = lambda outcome: None
    on_event: Callable[[Event], None] = lambda event: None
    on_note: Callable[[str], None] = lambda note: None


def work(
    workspace: Workspace, options: WorkOptions | None = None, hooks: WorkHooks | None = None
) -> None:
    """Take recordings from the queue until this is asked to stop.

    The first interruption (Ctrl-C, SIGTERM) takes nothing new and lets what is on its way come in;
    so does `Ledger.end_workers`. What is left goes to other workers.

    Raises:
        InputError: there is no queue, no such engine, or a secret is missing.
        LedgerError: the database was away for too long.
    """
    wanted = options or WorkOptions()
    engines = list(wanted.engines) or sorted(workspace.engines)
    if not engines:
        raise InputError("there is no engine in the settings", where="[engine.NAME]")
    for engine in engines:
        workspace.require_trust_in(engine)
        workspace.secrets_of(workspace.engine(engine))
    worker = _Worker(workspace, engines, wanted, hooks or WorkHooks())
    run_interruptibly(worker.work())


@dataclass(slots=True)
class _Worker:
    workspace: Workspace
    engines: Sequence[str]
    options: WorkOptions
    hooks: WorkHooks
    _lanes: Lanes = field(init=False)
    _queue: JobQueue = field(init=False)
    _writer: LedgerWriter = field(init=False)
    _cards: dict[str, str] = field(init=False)
    _under_way: "dict[str, asyncio.Task[float | None]]" = field(default_factory=dict)
    _last: float = 0.0
    _ending: asyncio.Event = field(default_factory=asyncio.Event)
    _told: set[str] = field(default_factory=set)

    async def work(self) -> None:
        """Work until the end."""
        self._cards = digests_of_cards(self.workspace)
        self._queue = JobQueue(self.workspace)
        self._writer = LedgerWriter(
            lambda: open_ledger(self.workspace, "work"), tell=self.hooks.on_note
        )
        self._last = time.monotonic()
        with DecodingWorkers() as decoding, interruptible(self._interrupt):
            self._lanes = Lanes(self.workspace, decoding, self.hooks.on_event)
            try:
                await self._writer.perform(lambda ledger: ledger.sign_on())
                async with self._queue:
                    await self._work_on_queue()
            finally:
                await asyncio.gather(*self._under_way.values(), return_exceptions=True)
                await self._lanes.close()
                self._writer.close()

    def _interrupt(self) -> None:
        if self._under_way:
            self.hooks.on_note(
                f"ending; waiting for {len(self._under_way)} recordings, once more leaves at once"
            )
        self._ending.set()
        self._lanes.interrupt()

    async def _work_on_queue(self) -> None:
        watching = [
            asyncio.create_task(self._keep_up()),
            asyncio.create_task(self._end_when_idle()),
        ]
        away_since: float | None = None
        try:
            while not self._ending.is_set():
                handing = asyncio.create_task(
                    self._queue.work(self.engines, self._at_once, self._take)
                )
                ending = asyncio.create_task(self._ending.wait())
                began = time.monotonic()
                await asyncio.wait({handing, ending}, return_when=asyncio.FIRST_COMPLETED)
                ending.cancel()
                if not handing.done():
                    handing.cancel()
                    await asyncio.gather(handing, return_exceptions=True)
                    return
                error = handing.exception()
                if not isinstance(error, LedgerError):
                    raise error or InternalError("the queue ended by itself")
                # It had worked for a while: this is another outage.
                if away_since is None or began - away_since > _PATIENCE:
                    away_since = time.monotonic()
                    self.hooks.on_note(f"{error}; waiting until it is back")
                elif time.monotonic() - away_since > _PATIENCE:
                    raise error
                await asyncio.sleep(_UPKEEP)
        finally:
            for task in watching:
                task.cancel()

    @property
    def _at_once(self) -> int:
        if self.options.most is not None:
            return self.options.most
        rooms = [self.workspace.engine(engine).concurrent_pieces for engine in self.engines]
        return min(_MOST_AT_ONCE, sum(rooms) + 2)

    async def _take(self, job: str, card: str) -> float | None:
        """Do a job; the seconds until it is handed out again, None when that is not needed."""
        # When the queue went away meanwhile, the same job is handed out while it is under way.
        task = self._under_way.get(job)
        if task is None:
            task = self._under_way[job] = asyncio.create_task(self._done(job, card))
            task.add_done_callback(lambda _: self._forget(job))
        return await asyncio.shield(task)

    def _forget(self, job: str) -> None:
        del self._under_way[job]
        self._last = time.monotonic()

    async def _done(self, job: str, card: str) -> float | None:
        try:
            record = await self._writer.perform(lambda ledger: ledger.listing.job(job))
        except LedgerError:
            return _NOT_HERE
        except InputError:
            return None  # it was forgotten
        return None if record.state in _ENDED else await self._worked_on(record, card)

    async def _worked_on(self, record: JobRecord, card: str) -> float | None:
        if card != self._cards.get(record.engine, ""):
            self._tell_once(
                f"{record.engine}: its card here is not the one with which {record.id} was queued; "
                "workers with that card take it"
            )
            return _NOT_HERE
        try:
            outcome = await self._lanes.outcome(record, stored_options(record))
        except ElsewhereError as error:
            self._tell_once(f"{error}; workers there take it")
            return _NOT_HERE
        except PostponedError as error:
            return _NOT_HERE if self._ending.is_set() else _seconds_until(error)
        except MantisreedError as error:
            outcome = Outcome(Source(path_of(record)), "failed", error=error, job=record)
        except Exception as error:
            _log.exception("job %s could not be done", record.id)
            self.hooks.on_note(f"job {record.id} could not be done ({error!r}); it is tried again")
            return _AGAIN
        return await self._ended(record, outcome)

    async def _ended(self, record: JobRecord, outcome: Outcome) -> float | None:
        error = outcome.error
        if outcome.state == "waiting":
            seconds = _seconds_until(error)
            if not self._ending.is_set():
                self.hooks.on_outcome(outcome)
            return seconds
        if outcome.state == "failed":
            # What failed before its recording was read is not noted in the ledger yet.
            await self._note(record.id, "failed", str(error))
        elif outcome.job is not None and outcome.job.id != record.id:
            what = f"the recording was changed since it was queued; job {outcome.job.id} is it now"
            await self._note(record.id, "failed", what)
        self.hooks.on_outcome(outcome)
        return None

    async def _note(self, job: str, event: JobEvent, reason: str) -> None:
        def note(ledger: Ledger) -> None:
            if ledger.listing.job(job).state not in _ENDED:
                ledger.jobs.note(job, event, reason)

        await self._writer.perform(note, is_owed=True)

    def _tell_once(self, note: str) -> None:
        if note not in self._told:
            self._told.add(note)
            self.hooks.on_note(note)

    async def _keep_up(self) -> None:
        """Give the jobs of dead workers to others, and queue again what was left over."""
        swept = 0.0
        while True:
            await asyncio.sleep(_UPKEEP)
            try:
                if await self._writer.perform(lambda ledger: ledger.is_to_end):
                    self._interrupt()
                    return
                for record in await self._writer.perform(self._cancelled):
                    self._lanes.stop(record.id)
                await self._queue.take_back()
                if time.monotonic() - swept > _SWEEP:
                    swept = time.monotonic()
                    self._tidy_cache()
                    await self._writer.perform(lambda ledger: ledger.recover())
                    await self._queue.put(await self._queue.left_over(), self._cards)
            except MantisreedError as error:
                _log.debug("the queue could not be looked after: %s", error)

    def _tidy_cache(self) -> None:
        cache = StorageCache.of(self.workspace)
        if cache is not None:
            cache.tidy()

    def _cancelled(self, ledger: Ledger) -> list[JobRecord]:
        """Jobs that this worker has, and that nobody wants any more."""
        if not self._under_way:
            return []
        return ledger.listing.jobs(Filter(ids=tuple(self._under_way), states=("cancelled",)))

    async def _end_when_idle(self) -> None:
        limit = self.options.until_idle
        while limit is not None:
            await asyncio.sleep(min(_LOOK, limit / 2))
            is_quiet = not self._under_way and time.monotonic() - self._last >= limit
            # A slow machine may not have come to what waits, or come to it while we ask.
            if is_quiet and not await self._has_ready() and not self._under_way:
                self._ending.set()
                return

    async def _has_ready(self) -> bool:
        try:
            return await self._queue.has_ready(self.engines)
        except LedgerError:
            return False  # nobody knows, and waiting for the database is not idle's business


def _seconds_until(error: MantisreedError | None) -> float:
    until = getattr(error, "until", None)
    return max(1.0, until - time.time()) if until else _AGAIN
