"""From recordings to files: prepare, send, read, write, many recordings at once."""

import asyncio
import logging
import os
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.engines.asking import client_for, reading_of
from mantisreed.engines.client import Answered
from mantisreed.engines.request import Piece, wants_link
from mantisreed.errors import (
    BadRequestError,
    InterruptedRunError,
    MantisreedError,
    PostponedError,
    RecordingError,
    TooBigError,
    UnreadableReplyError,
)
from mantisreed.files import bytes_digest, file_digest, make_folder, shown, write_whole
from mantisreed.jobs.money import Budget
from mantisreed.jobs.moving import Mover, Work, card_address, request_address
from mantisreed.jobs.records import Filter
from mantisreed.jobs.writing import LedgerWriter
from mantisreed.pipeline.assembling import Heard, transcript_of
from mantisreed.pipeline.orders import Made, Order, job_order
from mantisreed.pipeline.outputs import Outputs, Written
from mantisreed.pipeline.pieces import Preparation, PreparedPiece
from mantisreed.pipeline.sources import Source, local_file
from mantisreed.transcript.document import RecordingFacts, Transcript
from mantisreed.units import short_size

if TYPE_CHECKING:
    from mantisreed.engines.links import LinkServer
    from mantisreed.engines.reply import Reading
    from mantisreed.engines.transport import Transport
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import JobRecord

_log = logging.getLogger(__name__)

State = Literal["done", "nothing heard", "incomplete", "working", "waiting", "failed"]
Stage = Literal["fetching", "preparing", "waiting", "sending", "working", "done", "failed", "interrupted"]


@dataclass(slots=True)
class Tally:
    """How a whole batch stands.

    Attributes:
        recordings, recordings_done: how many there are, and how many have ended in some way.
        pieces, pieces_done: those that are known so far, and those answered.
        seconds, seconds_done: of sound, in those pieces.
        sending: requests on their way.
        out: pieces that the engine has as jobs.
        owed: what was spent, with what is out, in the card's currency; None when it names no price.
        started: seconds since 1970.
        share: of the whole work that is done, 0 to 1, by the recordings' sizes.
    """

    recordings: int
    started: float
    recordings_done: int = 0
    pieces: int = 0
    pieces_done: int = 0
    seconds: float = 0.0
    seconds_done: float = 0.0
    sending: int = 0
    out: int = 0
    owed: Decimal | None = None
    currency: str = ""
    share: float = 0.0


@dataclass(frozen=True, slots=True)
class Event:
    """A recording has come to another stage.

    Attributes:
        recording: which one.
        stage: the new one.
        note: why, where there is something to say.
        tally: how the whole batch stands; None where it is not counted.
        until: when it goes on, in seconds since 1970; None where nobody knows.
        now: seconds since 1970.
    """

    recording: Source
    stage: Stage
    note: str = ""
    tally: Tally | None = None
    until: float | None = None
    now: float | None = None

    def text(self, now: float | None = None) -> str:
        """For a line; with the seconds that are left at the time `now`, None for that of the event."""
        note = self.note
        if self.until is not None:
            moment = self.now if now is None else now
            note = f"{note} in {max(0.0, self.until - (moment or 0.0)):.0f} s"
        return f"{self.stage} ({note})" if note else self.stage


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one recording.

    Attributes:
        recording: where it came from.
        state: `incomplete` when the recording itself breaks off, and what there was of it is transcribed; `working`
            when it was sent and not waited for; `waiting` when something else has to happen first.
        transcript: None when there is none (yet).
        files: what was written.
        changes: how often each word was changed in them.
        error: why it failed or waits, or what is incomplete.
        job: as the ledger has it; None when it did not come so far.
        remarks: what else the user should know.
    """

    recording: Source
    state: State
    transcript: Transcript | None = None
    files: tuple[Path, ...] = ()
    changes: Mapping[str, int] = field(default_factory=dict)
    error: MantisreedError | None = None
    job: "JobRecord | None" = None
    remarks: tuple[str, ...] = ()


@dataclass(slots=True)
class _Task:
    """One recording on its way.

    Attributes:
        recording: where it comes from.
        stem: of its outputs.
        weight: its share of the whole work.
        digest: of the recording, once it is known.
        job: its id, once the digest is known.
        opened: done when the job is noted in the ledger.
        given_up: set when one piece has failed, so that nothing more is to be sent.
        sending: those who have a request on its way.
    """

    recording: Source
    stem: str
    weight: float = 0.0
    digest: str | None = None
    job: str | None = None
    opened: "asyncio.Future[None] | None" = None
    given_up: bool = False
    sending: "set[asyncio.Task[object] | None]" = field(default_factory=set)


class Runner:
    """Takes recordings to transcripts by one engine, several at once, long ones in pieces."""

    def __init__(
        self,
        order: Order,
        outputs: Outputs,
        transport: "Transport",
        open_ledger: "Callable[[], Ledger]",
        *,
        hidden: Path,
        workers: DecodingWorkers | None = None,
        links: "LinkServer | None" = None,
        callbacks: str | None = None,
        expected: Mapping[str, str] | None = None,
        ready: Callable[[], Awaitable[None]] | None = None,
        on_event: Callable[[Event], None] = lambda event: None,
        clock: Callable[[], float] = time.time,
        sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
    ) -> None:
        """Start nothing yet.

        Args:
            order: what to do.
            outputs: where results go.
            transport: what carries requests.
            open_ledger: opens what everything is noted in; called when there is something to note.
            hidden: the workspace's hidden folder.
            workers: where long recordings are decoded; None decodes them in this process.
            links: where pieces are offered to engines that want a link.
            callbacks: the address under which engines can call back.
            expected: digests that recordings must have, by their sources' keys.
            ready: waits until the transport can send at once; None when it always can.
            on_event: called as recordings move along.
            clock, sleep: given by tests.

        Raises:
            InputError: the card names a Python object that cannot be loaded.
        """
        self._order = order
        self._outputs = outputs
        self._hidden = hidden
        self._workers = workers
        self._links = links
        self._on_event = on_event
        self._clock = clock
        self._expected = expected or {}
        self._card_address = card_address(order.card)
        self._writer = LedgerWriter(open_ledger)
        currency = order.card.price.currency if order.card.price else ""
        self._mover = Mover(
            client_for(order.card, order.secrets, transport, clock=clock),
            order.card,
            order.wishes,
            self._writer,
            afresh=order.afresh,
            tries=order.tries,
            budget=Budget(order.spend_limit, currency),
            callbacks=callbacks,
            clock=clock,
            sleep=sleep,
            ready=ready,
        )
        self._preparing = asyncio.Semaphore(os.cpu_count() or 1)
        self._interrupted: InterruptedRunError | None = None
        self._tally = Tally(0, clock(), currency=currency)

    def interrupt(self) -> None:
        """Send nothing more, wait for nothing, and come to an end as soon as what is on its way is noted."""
        self._interrupted = InterruptedRunError()
        self._mover.stop(self._interrupted)
        if self._mover.sending:
            note = f"interrupted; waiting for {self._mover.sending} on their way, once more leaves at once"
            self._on_event(Event(Source(Path()), "interrupted", note))

    async def run(self, recordings: Sequence[Source]) -> list[Outcome]:
        """The outcome of each recording, in order. One failure never stops the others."""
        sizes = [_size(recording) for recording in recordings]
        tasks = [
            _Task(recording, self._outputs.stem_for(recording), size / sum(sizes))
            for recording, size in zip(recordings, sizes, strict=True)
        ]
        self._tally.recordings = len(tasks)
        outcomes: dict[int, Outcome] = {}
        rest = list(enumerate(tasks))

        async def work() -> None:
            while rest:
                number, task = rest.pop(0)
                outcomes[number] = await self._finished(task)

        # As many are under way as can be sent and prepared at once: memory stays bounded for any number of them.
        workers = self._order.card.pace.at_once + (os.cpu_count() or 1)
        try:
            if self._order.spend_limit is not None:
                await self._count_what_is_owed(tasks)
            await asyncio.gather(*(work() for _ in range(workers)))
            records = await self._records(tasks)
            # What an engine gave these was another's, as showed later.
            misled = [
                number
                for number, task in enumerate(tasks)
                if outcomes[number].transcript and records[task.job or ""].state == "waiting"
            ]
            for number in misled:
                outcomes[number] = await self._finished(tasks[number])
            if misled:
                records = await self._records(tasks)
        finally:
            self._writer.close()
        return [replace(outcomes[number], job=records.get(task.job or "")) for number, task in enumerate(tasks)]

    async def _count_what_is_owed(self, tasks: Sequence[_Task]) -> None:
        """What these recordings have cost before counts towards the limit, so it is known before any is sent."""
        for task in tasks:
            if task.recording.link is None:
                task.digest = await asyncio.to_thread(file_digest, task.recording.path)
                task.job = self._job_id(task.digest)
        jobs = [task.job for task in tasks if task.job]
        self._mover.budget.owed = await self._mover.noted(lambda ledger: ledger.listing.owed(jobs))

    async def _records(self, tasks: Sequence[_Task]) -> "dict[str, JobRecord]":
        jobs = tuple(task.job for task in tasks if task.job)
        records = await self._mover.noted(lambda ledger: ledger.listing.jobs(Filter(ids=jobs))) if jobs else []
        return {record.id: record for record in records}

    async def _finished(self, task: _Task) -> Outcome:
        recording = task.recording
        try:
            if self._interrupted:
                raise self._interrupted
            outcome = await self._transcribed(task)
        except PostponedError as error:
            self._tell(recording, "waiting", str(error))
            return Outcome(recording, "waiting", error=error)
        except MantisreedError as error:
            _log.info("%s failed: %s", recording.shown, error)
            self._end(task)
            self._tell(recording, "failed")
            return Outcome(recording, "failed", error=error)
        self._end(task)
        stage: Stage = "working" if outcome.state == "working" else "done"
        self._tell(recording, stage, "" if outcome.state in ("done", "working") else outcome.state)
        return outcome

    def _tell(self, recording: Source, stage: Stage, note: str = "", until: float | None = None) -> None:
        tally, mover = self._tally, self._mover
        tally.sending, tally.out = mover.sending, mover.out
        tally.owed = mover.budget.owed if self._order.card.price else None
        self._on_event(Event(recording, stage, note, replace(tally), until, self._clock()))

    def _end(self, task: _Task) -> None:
        self._tally.recordings_done += 1
        self._tally.share += task.weight

    async def _transcribed(self, task: _Task) -> Outcome:
        recording = task.recording
        self._outputs.check(task.stem)
        if recording.link:
            self._tell(recording, "fetching")
        async with local_file(recording, self._hidden / "fetched") as path:
            self._tell(recording, "preparing")
            try:
                prepared = await asyncio.to_thread(self._preparation, recording, path)
                made, heard = await self._worked_through(task, prepared, path)
            except RecordingError as error:
                error.where = recording.shown
                raise
        if any(one.reading is None for one in heard):
            return Outcome(recording, "working")
        assert task.digest is not None and task.job is not None
        facts = RecordingFacts(recording.name, task.digest, round(made.duration, 3))
        transcript = transcript_of(self._order, facts, task.job, made, heard)
        written = await asyncio.to_thread(self._outputs.write, task.stem, recording, transcript)
        return outcome_of(recording, transcript, made.damage, written)

    async def _worked_through(self, task: _Task, prepared: Preparation, path: Path) -> tuple[Made, list[Heard]]:
        """What a recording was made into, and what was heard in all its pieces; the ledger says how the job ended."""
        task.opened = asyncio.ensure_future(self._open(task, path))
        try:
            heard = await self._readings(task, prepared)
            await task.opened
        except MantisreedError as error:
            state, reason = "waiting" if isinstance(error, PostponedError) else "failed", str(error)
            if task.opened.done() and not task.opened.exception():
                await self._note_job(task, state, reason)
            raise
        finally:
            task.opened.cancel()
        state = "working" if any(one.reading is None for one in heard) else "done"
        return await self._note_made(task, prepared, heard, state), heard

    async def _open(self, task: _Task, path: Path) -> None:
        """Note the job in the ledger; sets its id and the recording's digest.

        Raises:
            RecordingError: it is not the recording that it should be.
        """
        digest = task.digest
        if digest is None:
            task.digest = digest = await asyncio.to_thread(file_digest, path)
        if digest != self._expected.get(task.recording.key, digest):
            raise RecordingError(
                "the recording was changed since it was sent", advice="`mantisreed run` sends it as it is now"
            )
        order, outputs, recording = self._order, self._outputs, task.recording
        task.job = job = self._job_id(digest)
        currency = order.card.price.currency if order.card.price else None
        ordered = job_order(order, recording, task.stem, outputs.folder, outputs.names, outputs.options)
        encoded = msgspec.json.encode(ordered).decode()
        await self._mover.noted(
            lambda ledger: ledger.open_job(job, recording.shown, digest, order.card.name, currency, encoded)
        )

    async def _note_job(self, task: _Task, state: str, reason: str | None) -> None:
        job = task.job
        assert job is not None
        await self._mover.noted(lambda ledger: ledger.set_job(job, state, reason))

    async def _note_made(self, task: _Task, prepared: Preparation, heard: Sequence[Heard], state: str) -> Made:
        job = task.job
        assert job is not None
        made = Made(
            tuple(one.request for one in heard), prepared.duration, tuple(prepared.damage), tuple(prepared.notes)
        )
        encoded = msgspec.json.encode(made).decode()
        await self._mover.noted(lambda ledger: ledger.set_job(job, state, None, made=encoded, duration=made.duration))
        return made

    def _job_id(self, digest: str) -> str:
        return self._address(digest, self._order.pieces)[:12]

    def _preparation(self, recording: Source, path: Path) -> Preparation:
        card, options = self._order.card, self._order.pieces
        if recording.link and wants_link(card):
            options = msgspec.structs.replace(options, untouched=True)
        return Preparation(path, card, options, self._workers)

    def _address(self, digest: str, *described: object) -> str:
        """Of a request, or of a job: recording, card and wishes, and what else makes it what it is."""
        return request_address(self._card_address, self._order.wishes, digest, described)

    async def _readings(self, task: _Task, prepared: Preparation) -> list[Heard]:
        """What the engine heard in each piece, in order; pieces are prepared as there is room for them."""
        task.given_up = False
        room = asyncio.Semaphore(self._order.card.pace.at_once + 1)
        tasks: list[asyncio.Task[list[Heard]]] = []
        pieces = iter(prepared)

        async def one(piece: PreparedPiece, number: int) -> list[Heard]:
            self._count(piece)
            try:
                assert task.opened is not None
                await asyncio.shield(task.opened)
                heard = await self._heard_in(task, prepared, piece, number)
                self._count(piece, is_done=True)
                return heard
            finally:
                task.sending.discard(asyncio.current_task())
                room.release()

        try:
            while True:
                await room.acquire()
                async with self._preparing:
                    piece = await asyncio.to_thread(next, pieces, None)
                if piece is not None and self._interrupted:
                    raise self._interrupted
                if piece is None or any(one.done() and one.exception() for one in tasks):
                    break
                tasks.append(asyncio.create_task(one(piece, len(tasks) + 1)))
            return [heard for part in await asyncio.gather(*tasks) for heard in part]
        finally:
            await self._let_go(task, tasks)
            await asyncio.to_thread(prepared.close)

    async def _let_go(self, task: _Task, pieces: "Sequence[asyncio.Task[list[Heard]]]") -> None:
        """Send nothing more of a recording. What is on its way has been paid for: it is waited for and noted."""
        task.given_up = True
        if not self._interrupted:
            for piece in pieces:
                if piece not in task.sending:
                    piece.cancel()
        await asyncio.gather(*pieces, return_exceptions=True)

    def _count(self, piece: PreparedPiece, *, is_done: bool = False) -> None:
        seconds = piece.span.end - piece.span.start
        if is_done:
            self._tally.pieces_done += 1
            self._tally.seconds_done += seconds
        else:
            self._tally.pieces += 1
            self._tally.seconds += seconds

    async def _heard_in(self, task: _Task, prepared: Preparation, part: PreparedPiece, number: int) -> list[Heard]:
        """What the engine heard in one piece; when it says that the piece is too big, in smaller ones."""
        piece, recording = part.piece, task.recording
        if prepared.is_untouched and recording.link:
            piece = replace(piece, link=recording.link)
        which = "" if prepared.is_whole else f"piece {number}, "
        assert task.digest is not None and task.job is not None
        address = self._address(
            task.digest,
            self._order.pieces.track,
            part.channel,
            round(part.span.start, 6),
            round(part.span.end, 6),
            piece.form.name,
            piece.form.bit_rate,
            piece.sample_rate,
        )
        work = Work(task.job, address, part.span.start, part.span.end, part.channel, piece)
        try:
            reading = await self._heard(task, work, which)
            return [Heard(address, part.span.start, part.span.end, part.channel, reading)]
        except TooBigError:
            smaller = await asyncio.to_thread(list, prepared.recut(part))
            heard = [await self._heard_in(task, prepared, one, number) for one in smaller]
            return [one for several in heard for one in several]

    async def _heard(self, task: _Task, work: Work, which: str) -> "Reading | None":
        """What the engine heard in a piece; None when it is only to be sent and the reply is not there."""
        card, piece = self._order.card, work.piece
        size = f"{which}{short_size(len(piece.audio))} {piece.form.name}"

        def tell(stage: str, note: str, until: float | None = None) -> None:
            if stage == "sending":
                task.sending.add(asyncio.current_task())
            else:
                task.sending.discard(asyncio.current_task())
                if task.given_up and not self._interrupted:
                    raise PostponedError("another piece of the recording failed")
            self._tell(task.recording, stage, size if stage == "sending" else note, until)  # type: ignore[arg-type]

        link = self._offered(piece) if wants_link(card) and piece.link is None else None
        if wants_link(card) and not (link or piece.link):
            advice = 'set [links] public = "https://..." in the settings'
            raise BadRequestError("it wants a link to each piece, and we have none", engine=card.name, advice=advice)
        try:
            sent = replace(work, piece=replace(piece, link=link)) if link else work
            if self._order.is_waiting:
                answered: Answered | None = Answered(await self._mover.reply(sent, tell))
            else:
                answered = await self._mover.hand_in(sent, tell)
            return None if answered is None else reading_of(card, answered, piece, self._order.secrets)
        except UnreadableReplyError as error:
            _keep_unreadable(error, self._hidden)
            raise
        finally:
            if link and self._links:
                self._links.withdraw(link)

    def _offered(self, piece: Piece) -> str | None:
        if self._links is None:
            return None
        return self._links.offer(piece.audio, piece.form.content_type, piece.form.extension)


def outcome_of(recording: Source, transcript: Transcript, damage: Sequence[str], written: Written) -> Outcome:
    """The outcome of a recording whose transcript is written; `damage` says what is wrong with the recording."""
    if damage:
        advice = "what there is of it is transcribed"
        error = RecordingError(damage[0], where=recording.shown, advice=advice)
        return Outcome(recording, "incomplete", transcript, written.files, written.changes, error)
    return Outcome(
        recording, "done" if transcript.passages else "nothing heard", transcript, written.files, written.changes
    )


def _keep_unreadable(error: UnreadableReplyError, hidden: Path) -> None:
    """Put a reply that could not be read on disk for somebody to look at, and say where."""
    if not error.body:
        return
    path = hidden / "unreadable" / f"{bytes_digest([error.body]).removeprefix('sha256:')[:16]}.reply"
    make_folder(path.parent)
    write_whole(path, error.body)
    error.advice = f"the whole reply is kept in {shown(path)}"


def _size(recording: Source) -> float:
    """Bytes, as a measure of how much work a recording is; a link is taken for a middling one."""
    try:
        return float(max(1, recording.path.stat().st_size)) if recording.link is None else 1e6
    except OSError:
        return 1.0
