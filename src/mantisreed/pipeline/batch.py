"""Many recordings at once, each on its own way; what they share, and how the whole stands."""

import asyncio
import logging
import os
from collections.abc import Awaitable, Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, TypeAlias

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.engines.asking import client_for
from mantisreed.engines.http_client import ClientOptions
from mantisreed.errors import InterruptedRunError, MantisreedError
from mantisreed.files import file_digest
from mantisreed.jobs.budget import Budget, BudgetsOf
from mantisreed.jobs.dispatch import Dispatcher
from mantisreed.jobs.gate import Time
from mantisreed.jobs.records import Filter
from mantisreed.jobs.work import DispatchOptions
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.events import BatchProgress, Event, Stage
from mantisreed.pipeline.options import Expected, TranscriptionOptions
from mantisreed.pipeline.outcomes import Outcome, finished_recording, told_outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.preparing.pieces import PreparedPiece
from mantisreed.pipeline.recording import RecordingTask
from mantisreed.pipeline.surroundings import Surroundings, job_of
from mantisreed.pipeline.turns import Turns
from mantisreed.sources.recordings import Source

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport
    from mantisreed.engines.links import LinkOffers
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import JobRecord
    from mantisreed.jobs.store.database import Row
    from mantisreed.pipeline.followups.follow_ups import FollowUps
    from mantisreed.pipeline.followups.service_desk import Perform
    from mantisreed.pipeline.incoming.storage_cache import StorageCache
    from mantisreed.pipeline.second_opinions.asking import SecondOpinions

    FollowUpsMaker: TypeAlias = Callable[[Perform, Outputs, BudgetsOf], FollowUps]
    """Makes what is done with transcripts, of what does things with the ledger, where files go, and
    what may be spent."""

_log = logging.getLogger(__name__)

_SIZE_OF_A_LINK = 1e6  # bytes; a middling recording, as nobody knows before it is fetched


@dataclass(frozen=True, slots=True)
class BatchServices:
    """What a batch works with.

    Attributes:
        transport: what carries requests.
        open_ledger: opens what everything is noted in; called when there is something to note.
        hidden: the workspace's hidden folder.
        workers: where long recordings are decoded; None decodes them in this process.
        links: where pieces are offered to engines that want a link.
        callbacks: the address under which engines can call back.
        ready: waits until the transport can send at once; None when it always can.
        on_event: called as recordings move along.
        on_outcome: called when it is known what became of one; what it cost is not known yet.
        follow_ups: makes what is done with each transcript, of what does things with the ledger;
            None does nothing.
        purse_of: see `DispatchOptions`.
        cache: of recordings in a storage; None for none.
        time: the clock; tests give their own.
    """

    transport: "Transport"
    open_ledger: "Callable[[], Ledger]"
    hidden: Path
    workers: DecodingWorkers | None = None
    links: "LinkOffers | None" = None
    callbacks: str | None = None
    ready: Callable[[], Awaitable[None]] | None = None
    on_event: Callable[[Event], None] = lambda event: None
    on_outcome: Callable[[Outcome], None] = lambda outcome: None
    follow_ups: "FollowUpsMaker | None" = None
    purse_of: Callable[[str], Budget | None] = lambda job: None
    cache: "StorageCache | None" = None
    time: Time = field(default_factory=Time)


class Batch:
    """Takes recordings to transcripts by one engine, several at once, long ones in pieces."""

    def __init__(
        self,
        options: TranscriptionOptions,
        outputs: Outputs,
        services: BatchServices,
        *,
        expected: Mapping[str, Expected] | None = None,
        budget: Budget | None = None,
    ) -> None:
        """Start nothing yet.

        Args:
            options: what to do.
            outputs: where results go.
            services: what to work with.
            expected: what is known of recordings already, by their sources' keys.
            budget: that it shares with other batches; None has one of its own, by the options.

        Raises:
            InputError: the card names a Python object that cannot be loaded.
        """
        self._options, self._services = options, services
        self._writer = LedgerWriter(services.open_ledger, tell=self._tell_note)
        currency = options.card.price.currency if options.card.price else ""
        # Before all else, as the others use its budget.
        dispatcher = self._dispatcher_for(
            options, budget or Budget(options.wanted.spend_limit, currency)
        )
        self._dispatcher, self._outputs = dispatcher, outputs
        if options.second is not None:
            second = self._second_opinions(dispatcher.budget)
        else:
            second = None
        self._shared = Surroundings(
            options,
            outputs,
            dispatcher,
            services.hidden,
            services.workers,
            services.links,
            asyncio.Semaphore(os.cpu_count() or 1),
            {} if expected is None else expected,
            self._tell,
            self._count,
            second,
            services.cache,
        )
        self._progress = BatchProgress(0, services.time.clock(), currency=currency)
        self._follow_ups: FollowUps | None = None
        if services.follow_ups:
            self._follow_ups = services.follow_ups(dispatcher.perform, outputs, dispatcher.budgets)
        self._interrupted: InterruptedRunError | None = None
        self._tasks: list[RecordingTask] = []

    def _dispatcher_for(self, options: TranscriptionOptions, budget: Budget) -> Dispatcher:
        """What takes pieces to an engine and back."""
        services = self._services
        dispatchers: list[Dispatcher] = []

        # An engine that says that nothing is left is held by the client, which knows no dispatcher.
        def hold(seconds: float) -> None:
            for dispatcher in dispatchers:
                dispatcher.hold(seconds)

        client_options = ClientOptions(services.time.clock, services.time.sleep, hold)
        dispatcher = Dispatcher(
            client_for(options.card, options.secrets, services.transport, client_options),
            options.card,
            self._writer,
            DispatchOptions(
                options.request_options,
                afresh=options.wanted.afresh,
                max_attempts=options.max_attempts,
                budget=budget,
                purse_of=services.purse_of,
                callbacks=services.callbacks,
                ready=services.ready,
                time=services.time,
            ),
        )
        dispatchers.append(dispatcher)
        return dispatcher

    def _second_opinions(self, budget: Budget) -> "SecondOpinions":
        """Who is asked about what is doubtful; engines that count in the same money share what may
        be spent.
        """
        from mantisreed.pipeline.second_opinions.asking import SecondOpinions

        first, second = self._options, self._options.second
        assert second is not None
        currencies = [one.card.price.currency if one.card.price else "" for one in (first, second)]
        if currencies[0] == currencies[1]:
            shared = budget
        else:
            shared = Budget(second.wanted.spend_limit, currencies[1])
        return SecondOpinions(second, self._dispatcher_for(second, shared), self._services.hidden)

    def _tell_note(self, text: str) -> None:
        self._services.on_event(Event(Source(Path()), "note", f"note: {text}"))

    def stop_recording(self, key: str) -> None:
        """Send nothing more of the recording with this key; what is on its way is waited for."""
        for task in self._tasks:
            if task.recording.key == key:
                task.stop()

    def interrupt(self) -> None:
        """Send nothing more, wait for nothing, and come to an end as soon as what is on its way is
        noted.
        """
        # First, so that what is about to begin sees it.
        self._interrupted = InterruptedRunError()
        self._dispatcher.stop(self._interrupted)
        if self._shared.second is not None:
            self._shared.second.stop(self._interrupted)
        if self._follow_ups is not None:
            self._follow_ups.stop()
        for task in self._tasks:
            task.stop()
        if self._dispatcher.sending:
            note = (
                f"interrupted; waiting for {self._dispatcher.sending} on their way, once more "
                "leaves at once"
            )
            self._services.on_event(Event(Source(Path()), "interrupted", note))

    async def run(self, recordings: Sequence[Source]) -> list[Outcome]:
        """The outcome of each recording, in order. One failure never stops the others."""
        self._tasks = self._tasks_for(recordings)
        self._progress = replace(self._progress, recordings=len(self._tasks))
        outcomes: dict[int, Outcome] = {}

        async def take(numbered: tuple[int, RecordingTask]) -> None:
            number, task = numbered
            outcomes[number] = await self._followed(task, await self._outcome_of(task))
            self._services.on_outcome(outcomes[number])

        try:
            await self._make_ready()
            if self._options.wanted.spend_limit is not None:
                await self._watch_costs()
            at_once = min(self._at_once, len(self._tasks))
            await Turns.of(enumerate(self._tasks), at_once).work(take)
            # Before the end work, which gathers all transcripts and must not gather a wrong one.
            await self._redo_misled(outcomes)
            await self._end_follow_ups(outcomes)
            records = await self._records()
        finally:
            self._writer.close()
        return [
            replace(
                outcomes[number],
                job=records.get(task.job or ""),
                second=records.get(self._second_job_of(task) or ""),
            )
            for number, task in enumerate(self._tasks)
        ]

    @property
    def _at_once(self) -> int:
        """As many as can be sent and prepared at once: memory stays bounded for any number of
        recordings.
        """
        return self._options.card.concurrent_pieces + (os.cpu_count() or 1)

    async def _make_ready(self) -> None:
        """Load what the engines need, so that what cannot be loaded is told before anything is
        sent.
        """
        await self._dispatcher.make_ready()
        if self._shared.second is not None:
            await self._shared.second.dispatcher.make_ready()

    async def follow(
        self,
        incoming: "asyncio.Queue[Source | None]",
        is_wanted: Callable[[Source], bool] = lambda source: True,
    ) -> None:
        """Take recordings as they come, until a None does; what became of each is told by
        `on_outcome` alone.

        Memory does not grow with their number. What is in the queue behind the None stays there.

        Args:
            incoming: the recordings.
            is_wanted: asked about each when its turn comes; of one that is not wanted any more
                nothing is sent.
        """

        async def take(source: Source) -> None:
            if is_wanted(source):
                self._services.on_outcome(await self._followed_to_its_end(source))
            else:
                waiting = Outcome(source, "waiting", error=InterruptedRunError())
                self._services.on_outcome(waiting)

        try:
            await self._make_ready()
            await Turns(self._at_once, incoming).work(take)
            if self._follow_ups is not None:
                for ended in await self._follow_ups.at_the_end():
                    if ended.error is not None:  # there is no recording whose outcome could tell it
                        _log.warning("%s: %s", ended.name, ended.error)
        finally:
            self._writer.close()

    async def _followed_to_its_end(self, source: Source) -> Outcome:
        """What became of a recording, with what is done with its transcript."""
        # Nobody knows how many more will come, so that it has no share of a whole.
        task = RecordingTask(source, self._stem_for(source), 0.0, self._shared)
        self._tasks.append(task)
        try:
            outcome = await self._followed(task, await self._outcome_of(task))
            second = await self._record_of(self._second_job_of(task))
            return replace(outcome, job=await self._record_of(task.job), second=second)
        finally:
            self._tasks.remove(task)

    async def _followed(self, task: RecordingTask, outcome: Outcome) -> Outcome:
        """The outcome with those of what is done after it."""
        if self._follow_ups is None or outcome.state in ("waiting", "working"):
            return outcome
        job, cost = task.job, None
        if job is not None:
            with suppress(MantisreedError):  # follow-ups can do without the cost
                cost = (await self._dispatcher.perform(lambda ledger: ledger.listing.job(job))).cost
        finished = finished_recording(outcome, task.stem or "", self._outputs.names, job, cost)
        self._tell(task.recording, "following")
        followed = await self._follow_ups.after(finished)
        self._tell(
            task.recording, "failed" if outcome.state == "failed" else "done", _note_of(outcome)
        )
        return replace(outcome, follow_ups=tuple(followed))

    async def _end_follow_ups(self, outcomes: dict[int, Outcome]) -> None:
        """Do what is done once for all of them; the first of them tells how that went."""
        if self._follow_ups is None or self._interrupted or not outcomes:
            return
        ended = await self._follow_ups.at_the_end([task.recording for task in self._tasks])
        # They belong to no recording; the first one's outcome tells them.
        first = min(outcomes)
        outcomes[first] = replace(outcomes[first], follow_ups=(*outcomes[first].follow_ups, *ended))

    def _tasks_for(self, recordings: Sequence[Source]) -> list[RecordingTask]:
        sizes = list(map(_size, recordings))
        # Progress goes by bytes: lengths are not known before a file is opened.
        total = sum(sizes)
        return [
            RecordingTask(recording, self._stem_for(recording), size / total, self._shared)
            for recording, size in zip(recordings, sizes, strict=True)
        ]

    def _stem_for(self, recording: Source) -> str | None:
        """The stem of its outputs; None for a link, whose name only its host knows."""
        expected = self._shared.expected.get(recording.key)
        # A retry writes where the first try would have written.
        if expected is not None and expected.stem is not None:
            return expected.stem
        if recording.link is None:
            return self._outputs.stem_for(recording)
        return None

    async def _watch_costs(self) -> None:
        """What these recordings have cost before counts towards the limit, so it is known before
        any is sent.
        """
        # A link's digest is not known before it is fetched; its job counts itself when it opens.
        for task in self._tasks:
            if task.recording.link is not None:
                continue
            try:
                task.digest = await asyncio.to_thread(file_digest, task.recording.path)
            except OSError:
                continue  # its own turn tells what is wrong with it
            task.job = job_of(self._options, task.recording, task.digest)
        jobs = {task.job for task in self._tasks if task.job}
        budget, batch = self._dispatcher.budget, self._options.batch

        def costly(ledger: "Ledger") -> "tuple[set[str], list[Row]]":
            # The limit is for all recordings of one run, also where only some of them are retried.
            together = jobs | set(ledger.listing.jobs_of_batch(batch))
            return together, ledger.listing.costly_attempts(together)

        budget.watch(*await self._dispatcher.perform(costly))

    async def _redo_misled(self, outcomes: dict[int, Outcome]) -> None:
        """Do those again whose replies proved, after they were written, to be another
        recording's.
        """
        records = await self._records()
        for number, task in enumerate(self._tasks):
            record = records.get(task.job or "")
            # The ledger has taken its reply away: it was another piece's.
            if outcomes[number].transcript and record is not None and record.state == "waiting":
                outcomes[number] = await self._outcome_of(task)

    def _second_job_of(self, task: RecordingTask) -> str | None:
        """The job of the second opinion on a recording, where there is one."""
        second = self._shared.second
        if second is None or task.job is None:
            return None
        return second.jobs.get(task.job)

    async def _record_of(self, job: str | None) -> "JobRecord | None":
        """A job as the ledger has it; None where it did not come so far."""
        if job is None:
            return None
        try:
            return await self._dispatcher.perform(lambda ledger: ledger.listing.job(job))
        except MantisreedError:
            return None  # what became of the recording is known all the same

    async def _records(self) -> "dict[str, JobRecord]":
        seconds = map(self._second_job_of, self._tasks)
        jobs = tuple(filter(None, (*(task.job for task in self._tasks), *seconds)))
        if not jobs:
            return {}
        records = await self._dispatcher.perform(
            lambda ledger: ledger.listing.jobs(Filter(ids=jobs))
        )
        return {record.id: record for record in records}

    async def _outcome_of(self, task: RecordingTask) -> Outcome:
        """What becomes of one recording, told."""
        recording = task.recording
        outcome = await told_outcome(recording, self._taken(task), recording.label)
        if outcome.state == "waiting":
            self._tell(recording, "waiting", str(outcome.error))
            return outcome
        self._end(task)
        stage: Stage = "done"
        if outcome.state in ("working", "failed"):
            stage = outcome.state
        # What is done with a transcript is told before it is called done.
        if stage == "working" or self._follow_ups is None:
            self._tell(recording, stage, _note_of(outcome))
        return outcome

    async def _taken(self, task: RecordingTask) -> Outcome:
        if self._interrupted:
            raise self._interrupted
        return await task.outcome()

    def _end(self, task: RecordingTask) -> None:
        self._progress = replace(
            self._progress,
            recordings_done=self._progress.recordings_done + 1,
            share=self._progress.share + task.weight,
        )

    def _count(self, piece: PreparedPiece, is_done: bool) -> None:
        progress = self._progress
        if is_done:
            seconds = progress.seconds_done + piece.span.length
            self._progress = replace(
                progress, pieces_done=progress.pieces_done + 1, seconds_done=seconds
            )
        else:
            self._progress = replace(progress, pieces=progress.pieces + 1)

    def _tell(
        self, recording: Source, stage: Stage, note: str = "", until: float | None = None
    ) -> None:
        dispatcher = self._dispatcher
        progress = replace(
            self._progress,
            sending=dispatcher.sending,
            out=dispatcher.out,
            owed=dispatcher.budget.owed if self._options.card.price else None,
        )
        self._services.on_event(
            Event(recording, stage, note, progress, until, self._services.time.clock())
        )


def _note_of(outcome: Outcome) -> str:
    if outcome.state in ("done", "working", "failed"):
        return ""
    return outcome.state


def _size(recording: Source) -> float:
    """Bytes, as a measure of how much work a recording is."""
    if recording.link is not None:
        return _SIZE_OF_A_LINK
    try:
        return float(max(1, recording.path.stat().st_size))
    except OSError:
        return 1.0
