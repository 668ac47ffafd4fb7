"""What was sent, some time later: asking for it, writing it out, sending it again, cancelling
it.
"""

import asyncio
import logging
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AsyncExitStack
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mantisreed.engines.asking import client_for, reading_of
from mantisreed.engines.client import EngineResponse
from mantisreed.errors import (
    InputError,
    InterruptedRunError,
    MantisreedError,
    OutputError,
    PostponedError,
    UnreadableReplyError,
)
from mantisreed.files import file_digest
from mantisreed.jobs.budget import Budget
from mantisreed.jobs.dispatch import Dispatcher
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.records import JobRecord, PieceRecord, RequestRecord
from mantisreed.jobs.replies import ReplyLostError
from mantisreed.jobs.work import DispatchOptions
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.assembling import (
    Assembled,
    KeptReplies,
    kept_replies,
    kept_transcript,
    sent_piece,
)
from mantisreed.pipeline.batch import Batch
from mantisreed.pipeline.events import Event, Stage
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.pipeline.open_files import room_for_requests
from mantisreed.pipeline.options import (
    Made,
    StoredOptions,
    TranscriptionOptions,
    options_of_job,
    path_at,
    stored_options,
)
from mantisreed.pipeline.outcomes import (
    Outcome,
    finished_recording,
    job_outcome,
    outcome_of,
    told_outcome,
)
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.second_opinions.kept import kept_opinion
from mantisreed.pipeline.sent_jobs.choosing import jobs_to_use, outputs_of_job, path_of, still_there
from mantisreed.pipeline.surroundings import identity_of
from mantisreed.pipeline.transcribe import RunHooks, batch_services, follow_ups_maker
from mantisreed.pipeline.turns import Turns
from mantisreed.pipeline.unreadable import UnreadableReplies
from mantisreed.review.opinions import clips_of
from mantisreed.review.personal import hidden_transcript
from mantisreed.running import interruptible, run_interruptibly
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport
    from mantisreed.pipeline.followups.follow_ups import FollowUps

_log = logging.getLogger(__name__)

_COLLECTED_AT_ONCE = 256  # jobs; each holds a connection at most

Show = Callable[[Event], None]


def collect(
    workspace: Workspace,
    ids: Sequence[str] = (),
    *,
    wait: bool = False,
    overwrite: bool = False,
    on_event: Show = lambda event: None,
) -> list[Outcome]:
    """Ask the engines for what they have been sent, take what is ready, and write out what is
    complete.

    Args:
        workspace: with the engine cards and the ledger.
        ids: of jobs, or beginnings of them; none means all that are not finished.
        wait: until everything is there.
        overwrite: also outputs that were edited since they were written.
        on_event: called as jobs move along.

    Returns:
        One outcome for each job.

    Raises:
        InputError: an id begins no job, or several; or the ledger cannot be used.
    """
    jobs = jobs_to_use(workspace, ids, ("working", "sending", "waiting", "unconfirmed"))

    async def work() -> list[Outcome]:
        async with AsyncExitStack() as stack:
            transport = await stack.enter_async_context(LateTransport())
            collector = Collector(workspace, transport, overwrite=overwrite, on_event=on_event)
            stack.callback(collector.close)
            stack.enter_context(interruptible(collector.interrupt))
            outcomes: dict[str, Outcome] = {}

            async def take(job: JobRecord) -> None:
                outcomes[job.id] = await collector.collected(job, wait=wait)

            # Each job that is asked for holds connections, and descriptors are few.
            at_once = min(_COLLECTED_AT_ONCE, room_for_requests(), len(jobs))
            await Turns.of(jobs, at_once).work(take)
            return [outcomes[job.id] for job in jobs]

    return run_interruptibly(work())


@dataclass(frozen=True, slots=True)
class _Collected:
    """A job that is being collected.

    Attributes:
        record: as the ledger has it.
        stored: what was asked for.
        options: the same with the settings as they are now.
        named: its recording.
    """

    record: JobRecord
    stored: StoredOptions
    options: TranscriptionOptions
    named: Source


class Collector:
    """Takes jobs that are out to their end."""

    def __init__(
        self,
        workspace: Workspace,
        transport: "Transport",
        *,
        writer: LedgerWriter | None = None,
        overwrite: bool = False,
        also_doubtful: bool = False,
        on_event: Show = lambda event: None,
    ) -> None:
        self._also_doubtful = also_doubtful
        self._follow_ups: list[FollowUps] = []
        self._batches: list[Batch] = []
        self._workspace = workspace
        self._transport = transport
        self._overwrite = overwrite
        self._on_event = on_event
        self._writer = writer or LedgerWriter(lambda: open_ledger(workspace))
        self._dispatchers: dict[tuple[str, bool], Dispatcher] = {}
        self._interrupted: InterruptedRunError | None = None

    def close(self) -> None:
        """Wait for the last note."""
        self._writer.close()

    def interrupt(self) -> None:
        """Wait for nothing any more."""
        self._interrupted = InterruptedRunError()
        for dispatcher in self._dispatchers.values():
            dispatcher.stop(self._interrupted)
        for follow_ups in self._follow_ups:
            follow_ups.stop()
        for batch in self._batches:
            batch.interrupt()

    async def followed(self, record: JobRecord) -> Outcome:
        """Do what is left of the follow-ups of a job that is done; its outputs stay as they are."""
        named = Source(path_of(record))
        outcome = await told_outcome(named, self._follow_ups_of(record, named), record.recording)
        return replace(outcome, job=record)

    async def _follow_ups_of(self, record: JobRecord, named: Source) -> Outcome:
        stored = stored_options(record)
        options = options_of_job(self._workspace, record.engine, stored)
        job = _Collected(record, stored, options, named)
        assembled, _ = await self._kept(job)
        outputs = self._outputs_of(stored)
        files = tuple(path for path in outputs.paths(stored.output_stem) if path.exists())
        outcome = Outcome(named, "done", assembled.transcript, files, job=record)
        return await self._with_follow_ups(job, outcome, outputs)

    async def _with_follow_ups(
        self, job: _Collected, outcome: Outcome, outputs: Outputs
    ) -> Outcome:
        record = job.record
        make = follow_ups_maker(
            self._workspace, job.options, self._transport, also_doubtful=self._also_doubtful
        )
        if make is None:
            return outcome
        budgets = await self._budgets_of(job)
        follow_ups = make(self._writer.perform, outputs, lambda known: budgets)
        self._follow_ups.append(follow_ups)
        about = tuple(job.stored.about.items())
        told = replace(outcome, recording=replace(job.named, about=about))
        stem = job.stored.output_stem
        finished = finished_recording(told, stem, outputs.names, record.id, record.cost)
        ended = [*await follow_ups.after(finished), *await follow_ups.at_the_end()]
        return replace(outcome, follow_ups=tuple(ended))

    async def _budgets_of(self, job: _Collected) -> tuple[Budget, ...]:
        """What the job may spend, with what it has cost so far."""
        price, record = job.options.card.price, job.record
        budget = Budget(job.options.wanted.spend_limit, price.currency if price else "")
        if budget.has_limit:
            attempts = await self._writer.perform(
                lambda ledger: ledger.listing.costly_attempts({record.id})
            )
            budget.watch({record.id}, attempts)
        return (budget,)

    def _outputs_of(self, stored: StoredOptions) -> Outputs:
        return outputs_of_job(self._workspace, stored, overwrite=self._overwrite)

    async def collected(self, record: JobRecord, *, wait: bool) -> Outcome:
        """What became of a job. Whatever goes wrong with it ends here, and is told."""
        named = Source(path_of(record))
        work = self._taken(record, named, wait=wait)
        outcome = await told_outcome(named, work, record.recording)
        if outcome.state in ("waiting", "failed"):
            note = str(outcome.error) if outcome.state == "waiting" else ""
            self._on_event(Event(named, outcome.state, note))
            return replace(outcome, job=record)
        self._on_event(Event(named, "working" if outcome.state == "working" else "done"))
        # Read anew: what it cost, and its state, changed with the replies.
        now = await self._writer.perform(lambda ledger: ledger.listing.job(record.id))
        return replace(outcome, job=now)

    async def asked(self, options: TranscriptionOptions, request: RequestRecord) -> None:
        """Ask once for a request that the engine says is done, whoever waits for it.

        Raises:
            EngineError: the job failed, or the engine does not know it.
            PostponedError: the engine cannot be asked for now.
        """
        await self._dispatcher(options).ask_once(request)

    async def delivered(
        self, options: TranscriptionOptions, request: RequestRecord, body: bytes
    ) -> None:
        """Take the reply to a request that the engine has brought by itself.

        Raises:
            UnreadableReplyError: it is not as the card says, so that it is better asked for.
        """
        # Anybody may call the address: only what can be read as the card says is noted.
        await asyncio.to_thread(
            reading_of, options.card, EngineResponse(body), sent_piece(request), options.secrets
        )
        await self._dispatcher(options).deliver(request, body)

    async def _taken(self, record: JobRecord, named: Source, *, wait: bool) -> Outcome:
        stored = stored_options(record)
        options = options_of_job(self._workspace, record.engine, stored)
        job = _Collected(record, stored, options, named)
        if await self._writer.perform(lambda ledger: _is_another_process_at(ledger, record.id)):
            raise PostponedError("another process has it under way", where=record.recording)
        wanted = await self._wanted(record)
        self._on_event(Event(named, "working"))
        working = [piece for piece in wanted if piece.state == "working"]
        errors = [error for error in await self._asked_for(job, working, wait=wait) if error]
        # Even where a question failed: a call of the engine may have brought its reply meanwhile.
        wanted = await self._wanted(record)
        if record.made is not None and all(piece.state == "done" for piece in wanted):
            return await self._written(job)
        for error in errors:
            # A failure is final and comes first; what is only postponed may be asked for again.
            if not isinstance(error, PostponedError):
                await self._note_failed(record, str(error))
                raise error
        if errors:
            raise errors[0]
        if record.made is not None and any(piece.state == "working" for piece in wanted):
            return Outcome(named, "working")
        advice = f"`mantisreed retry {record.id[:8]}` sends what is missing"
        raise PostponedError("not all of it was sent", where=record.recording, advice=advice)

    async def _asked_for(
        self, job: _Collected, pieces: Sequence[PieceRecord], *, wait: bool
    ) -> list[MantisreedError | None]:
        """Ask for requests that are at the engine; gives what went wrong with each."""
        dispatcher = self._dispatcher(job.options)

        def progress(stage: str, note: str, until: float | None = None) -> None:
            if stage != "claiming":
                self._on_event(Event(job.named, _stage(stage), note, None, until, time.time()))

        async def ask(piece: PieceRecord) -> MantisreedError | None:
            try:
                await dispatcher.collect(piece.request, progress, wait=wait)
            except MantisreedError as error:
                return error
            return None

        return await asyncio.gather(*map(ask, pieces))

    async def _wanted(self, record: JobRecord) -> list[PieceRecord]:
        pieces = await self._writer.perform(lambda ledger: ledger.listing.pieces(record.id))
        return _wanted(record, pieces)

    async def _written(self, job: _Collected) -> Outcome:
        """Write a job out; only then it is done."""
        record, stored = job.record, job.stored
        assembled, made = await self._kept(job)
        transcript = assembled.transcript
        is_missing = _lacks_second_opinion(job, transcript, made, self._workspace.hidden)
        if is_missing:
            outcome = await self._with_second_opinion(job)
            if outcome is not None:
                return outcome
        outputs = self._outputs_of(stored)
        try:
            written = await asyncio.to_thread(
                outputs.write, stored.output_stem, job.named, transcript
            )
        except OutputError as error:
            reason = f"its outputs could not be written: {error}"
            await self._writer.perform(
                lambda ledger: ledger.jobs.note(record.id, "postponed", reason), is_owed=True
            )
            raise
        outcome = outcome_of(job.named, transcript, made.damage, assembled.doubts, written)
        ended = job_outcome(outcome)
        state = await self._writer.perform(
            lambda ledger: ledger.jobs.note(record.id, "written", None, ended), is_owed=True
        )
        # The ledger found meanwhile that one reply had been another request's.
        if state != "done":
            advice = f"`mantisreed retry {record.id[:8]}` sends it again"
            raise PostponedError(
                "a reply proved to be another job's", where=record.recording, advice=advice
            )
        remarks = await asyncio.to_thread(lambda: tuple(_remarks(job)))
        if is_missing:
            second = job.options.second
            assert second is not None
            what = (
                f"{record.recording} is not there any more, so that {second.card.name} gives "
                "no second opinion on it"
            )
            remarks = (*remarks, what)
        return await self._with_follow_ups(job, replace(outcome, remarks=remarks), outputs)

    async def _with_second_opinion(self, job: _Collected) -> Outcome | None:
        """Ask another engine about what is doubtful, and write the job out.

        It needs the recording's sound, so that the recording goes its whole way once more; what is
        answered is kept, and not sent again.

        Returns:
            None where the recording is not there any more.
        """
        try:
            source = still_there(self._workspace, job.stored)
        except InputError:
            return None
        expected = {source.key: job.stored.expected(job.record.digest)}
        hooks = RunHooks(expected, on_event=self._on_event)
        outputs = self._outputs_of(job.stored)
        async with AsyncExitStack() as stack:
            services = await batch_services(stack, self._workspace, job.options, [source], hooks)
            batch = Batch(job.options, outputs, services, expected=hooks.expected)
            self._batches.append(batch)
            try:
                (outcome,) = await batch.run([source])
            finally:
                self._batches.remove(batch)
        return outcome

    async def _kept(self, job: _Collected) -> tuple[Assembled, Made]:
        """The transcript of a job that is answered, from the kept replies."""
        record = job.record
        kept = await self._writer.perform(lambda ledger: _replies_or_loss(ledger, record))
        if isinstance(kept, ReplyLostError):
            reason = str(kept)
            await self._writer.perform(
                lambda ledger: ledger.jobs.note(record.id, "postponed", reason), is_owed=True
            )
            advice = f"`mantisreed retry {record.id[:8]}` asks for it again"
            raise PostponedError(kept.what, where=kept.where, advice=advice) from kept
        try:
            read = UnreadableReplies(self._workspace.hidden).reading_of
            assembled = await asyncio.to_thread(
                kept_transcript, kept, job.options, self._workspace.hidden, read
            )
            clean = await asyncio.to_thread(
                hidden_transcript, assembled.transcript, job.stored.writing.redaction
            )
            return replace(assembled, transcript=clean), kept.made
        except UnreadableReplyError as error:
            await self._note_failed(record, str(error))
            raise

    async def _note_failed(self, record: JobRecord, reason: str) -> None:
        await self._writer.perform(
            lambda ledger: ledger.jobs.note(record.id, "failed", reason), is_owed=True
        )

    def _dispatcher(self, options: TranscriptionOptions) -> Dispatcher:
        key = (options.card.name, options.wanted.translate_to is not None)
        if key not in self._dispatchers:
            self._dispatchers[key] = Dispatcher(
                client_for(options.card, options.secrets, self._transport),
                options.card,
                self._writer,
                DispatchOptions(options.request_options, max_attempts=options.max_attempts),
            )
            # It may be made after the stop came, by a job that was only beginning.
            if self._interrupted:
                self._dispatchers[key].stop(self._interrupted)
        return self._dispatchers[key]


def _replies_or_loss(ledger: Ledger, record: JobRecord) -> KeptReplies | ReplyLostError:
    """A loss is given, not raised: what was noted of it would be undone."""
    try:
        return kept_replies(ledger, record)
    except ReplyLostError as error:
        return error


def _is_another_process_at(ledger: Ledger, job: str) -> bool:
    ledger.recover()
    return ledger.jobs.is_another_process_at(job)


def _wanted(record: JobRecord, pieces: Sequence[PieceRecord]) -> list[PieceRecord]:
    """The pieces that a job's transcript is made of; those known, when not all are."""
    if record.made is None:
        return [piece for piece in pieces if piece.state not in ("cancelled", "failed")]
    by_request = {piece.request.key: piece for piece in pieces}
    made = msgspec.json.decode(record.made, type=Made)
    return [by_request[key] for key in made.pieces if key in by_request]


def _stage(name: str) -> Stage:
    return name  # type: ignore[return-value]


def _lacks_second_opinion(
    job: _Collected, transcript: Transcript, made: Made, hidden: Path
) -> bool:
    """Whether a second engine was to hear what is doubtful in a transcript, and has not yet."""
    if job.options.second is None or kept_opinion(hidden, job.record.id) is not None:
        return False
    return bool(clips_of(transcript, made.speech or (), transcript.recording.duration))


def _remarks(job: _Collected) -> Iterator[str]:
    """What has changed since a job was sent."""
    record = job.record
    if identity_of(job.options, record.digest) != record.identity:
        yield (
            f"the settings of {record.engine} were changed since {record.recording} was sent; "
            "it was sent as before"
        )
    if job.stored.source.startswith("file:"):
        path = path_at(job.stored.source)
    else:
        path = None
    if path is None:
        return
    try:
        is_same = file_digest(path) == record.digest
    except OSError:
        return  # it may have gone; nothing needs it any more
    if not is_same:
        yield (
            f"{record.recording} was changed since it was sent; the transcript is of what was sent"
        )
