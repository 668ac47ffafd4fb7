"""Jobs that are worked on at once by one worker: those that ask for the same share a batch."""

import asyncio
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field, replace
from decimal import Decimal

import msgspec

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.errors import InternalError, MantisreedError, PostponedError
from mantisreed.jobs.budget import Budget
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.records import JobRecord
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.open_files import fitted
from mantisreed.pipeline.options import (
    Expected,
    StoredOptions,
    TranscriptionOptions,
    options_of_job,
)
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.runner import Runner
from mantisreed.pipeline.sent_jobs.choosing import outputs_of_job, still_there
from mantisreed.pipeline.transcribe import RunHooks
from mantisreed.workspace import Workspace

_IDLE_SECONDS = 30.0  # without a recording, until a batch ends


@dataclass(slots=True)
class _Lane:
    """One batch.

    Attributes:
        runner: what takes its recordings.
        task: the work on it.
        expected: what is known of its recordings, by their sources' keys.
        wanted: who waits for the outcome of a recording, by its source's key.
        idle: ends it when nothing comes any more.
    """

    runner: Runner
    expected: dict[str, Expected]
    task: "asyncio.Task[None] | None" = None
    wanted: "dict[str, asyncio.Future[Outcome]]" = field(default_factory=dict)
    idle: asyncio.TimerHandle | None = None


class Lanes:
    """Takes jobs of the ledger to their ends."""

    def __init__(
        self, workspace: Workspace, workers: DecodingWorkers, on_event: Callable[[Event], None]
    ) -> None:
        """Begin nothing yet.

        Args:
            workspace: with the engine cards and the ledger.
            workers: where recordings are decoded.
            on_event: called as recordings move along.
        """
        self._workspace, self._workers, self._on_event = workspace, workers, on_event
        self._lanes: dict[bytes, _Lane] = {}
        self._places: dict[str, tuple[_Lane, str]] = {}  # the lane and the source's key of a job
        self._is_stopping = False

    async def outcome(self, record: JobRecord, stored: StoredOptions) -> Outcome:
        """What becomes of a job.

        Raises:
            InputError: its recording is not there, or what was asked for makes no sense any more.
        """
        source = still_there(self._workspace, stored)
        lane = await self._lane_of(record, stored)
        if lane.idle is not None:
            lane.idle.cancel()
            lane.idle = None
        expected = lane.expected[source.key] = stored.expected(record.digest)
        if expected.stem is not None:
            # Its job was queued with it: a worker that died may have written some of them.
            lane.runner.outputs.own(expected.stem)
        future: asyncio.Future[Outcome] = asyncio.get_running_loop().create_future()
        lane.wanted[source.key] = future
        self._places[record.id] = lane, source.key
        lane.runner.give(source)
        try:
            return await future
        finally:
            self._places.pop(record.id, None)

    def stop(self, job: str) -> None:
        """Send nothing more of a job, as nobody wants it any more; what is on its way is waited
        for.
        """
        if job in self._places:
            lane, key = self._places[job]
            lane.runner.stop_recording(key)

    def interrupt(self) -> None:
        """Send nothing more; what is on its way is waited for."""
        self._is_stopping = True
        for lane in self._lanes.values():
            lane.runner.interrupt()

    async def close(self) -> None:
        """End the batches, which have nothing to do any more."""
        lanes = list(self._lanes.values())
        for lane in lanes:
            lane.runner.end()
        await asyncio.gather(*(lane.task for lane in lanes if lane.task), return_exceptions=True)

    async def _lane_of(self, record: JobRecord, stored: StoredOptions) -> _Lane:
        if self._is_stopping:
            raise PostponedError("the worker ends", where=record.recording)
        alike = [record.engine, stored.wanted, stored.batch, stored.place, stored.address]
        key = msgspec.json.encode(alike)
        lane = self._lanes.get(key)
        if lane is None:
            options = options_of_job(self._workspace, record.engine, stored)
            options = replace(options, card=fitted(options.card)[0])
            budget = await asyncio.to_thread(self._budget_of, options)
            lane = self._lanes.get(key)  # another job may have made it meanwhile
            if lane is None:
                lane = self._lanes[key] = self._begun(options, stored, budget)
                lane.task = asyncio.create_task(self._work(key, lane))
        return lane

    def _begun(
        self, options: TranscriptionOptions, stored: StoredOptions, budget: Budget | None
    ) -> _Lane:
        expected: dict[str, Expected] = {}
        hooks = RunHooks(expected, workers=self._workers, on_event=self._on_event)
        outputs = outputs_of_job(self._workspace, stored)
        lane = _Lane(Runner(self._workspace, options, outputs, hooks, budget=budget), expected)
        lane.runner.hooks = replace(hooks, on_outcome=lambda outcome: self._ended(lane, outcome))
        return lane

    def _budget_of(self, options: TranscriptionOptions) -> Budget | None:
        """What the jobs of a run may spend together, on whichever machines; None for no limit."""
        limit, price = options.wanted.spend_limit, options.card.price
        if limit is None:
            return None
        budget = Budget(Decimal(limit), price.currency if price else "")
        with closing(open_ledger(self._workspace)) as ledger:
            together = set(ledger.listing.jobs_of_batch(options.batch))
            budget.watch(together, ledger.listing.costly_attempts(together))
        return budget

    async def _work(self, key: bytes, lane: _Lane) -> None:
        error: MantisreedError = PostponedError("the engine is left alone for now")
        try:
            await lane.runner.round()
        except Exception as raised:
            error = InternalError.because(raised)
            if isinstance(raised, MantisreedError):
                error = raised
        finally:
            self._leave(key, lane)
            for future in lane.wanted.values():
                if not future.done():
                    future.set_exception(error)

    def _leave(self, key: bytes, lane: _Lane) -> None:
        if self._lanes.get(key) is lane:
            del self._lanes[key]

    def _ended(self, lane: _Lane, outcome: Outcome) -> None:
        future = lane.wanted.pop(outcome.recording.key, None)
        if outcome.state == "waiting":
            # Its engine is left alone by this batch for good; the next job begins another one.
            for key in [key for key, one in self._lanes.items() if one is lane]:
                self._leave(key, lane)
            lane.runner.end()
        elif not lane.wanted:
            loop = asyncio.get_running_loop()
            lane.idle = loop.call_later(_IDLE_SECONDS, lane.runner.end)
        if future is not None and not future.done():
            future.set_result(outcome)
