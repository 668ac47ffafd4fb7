"""What was sent, some time later: asking for it, writing it out, sending it again, calling it off."""

import asyncio
import time
from collections.abc import Callable, Iterable, Sequence
from contextlib import AsyncExitStack, closing
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mantisreed.engines.asking import client_for
from mantisreed.engines.client import Ticket
from mantisreed.errors import EngineError, InputError, InterruptedRunError, MantisreedError, PostponedError
from mantisreed.exports.formats import chosen_formats
from mantisreed.files import file_digest
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.moving import Mover, card_address, request_address
from mantisreed.jobs.records import Filter, JobRecord, PieceRecord
from mantisreed.jobs.writing import LedgerWriter
from mantisreed.pipeline.assembling import kept_transcript
from mantisreed.pipeline.orders import JobOrder, Made, Order, kept_order, ordered, path_at
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.run import Event, Outcome, outcome_of
from mantisreed.pipeline.sources import Source
from mantisreed.pipeline.transcribe import LateTransport, interruptible, run_interruptibly, run_order
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.engines.transport import Transport

_COLLECTED_AT_ONCE = 256

Show = Callable[[Event], None]


def chosen_jobs(workspace: Workspace, ids: Sequence[str], states: tuple[str, ...]) -> list[JobRecord]:
    """The jobs whose ids begin so, each once; without any, those in one of these states, the oldest first.

    Raises:
        InputError: an id begins no job, or several.
    """
    with closing(open_ledger(workspace)) as ledger:
        ledger.settle()
        if not ids:
            return ledger.listing.jobs(Filter(states=states))[::-1]
        found = [ledger.listing.job(beginning) for beginning in ids]
        return list({record.id: record for record in found}.values())


def collect(
    workspace: Workspace,
    ids: Sequence[str] = (),
    *,
    wait: bool = False,
    overwrite: bool = False,
    on_event: Show = lambda event: None,
) -> list[Outcome]:
    """Ask the engines for what they have been sent, take what is ready, and write out what is complete.

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
    jobs = chosen_jobs(workspace, ids, ("working", "sending", "waiting", "in doubt"))

    async def work() -> list[Outcome]:
        async with AsyncExitStack() as stack:
            transport = await stack.enter_async_context(LateTransport())
            collector = Collector(workspace, transport, overwrite=overwrite, on_event=on_event)
            stack.callback(collector.close)
            stack.enter_context(interruptible(collector.interrupt))
            room = asyncio.Semaphore(_COLLECTED_AT_ONCE)

            async def one(job: JobRecord) -> Outcome:
                async with room:
                    return await collector.collected(job, wait=wait)

            return list(await asyncio.gather(*(one(job) for job in jobs)))

    return run_interruptibly(work())


class Collector:
    """Takes jobs that are out to their end."""

    def __init__(
        self,
        workspace: Workspace,
        transport: "Transport",
        *,
        writer: LedgerWriter | None = None,
        overwrite: bool = False,
        on_event: Show = lambda event: None,
    ) -> None:
        self._workspace = workspace
        self._transport = transport
        self._overwrite = overwrite
        self._on_event = on_event
        self._writer = writer or LedgerWriter(lambda: open_ledger(workspace))
        self._movers: dict[tuple[str, bool], Mover] = {}
        self._interrupted: InterruptedRunError | None = None

    def close(self) -> None:
        """Wait for the last note."""
        self._writer.close()

    def interrupt(self) -> None:
        """Wait for nothing any more."""
        self._interrupted = InterruptedRunError()
        for mover in self._movers.values():
            mover.stop(self._interrupted)

    async def collected(self, record: JobRecord, *, wait: bool) -> Outcome:
        """What became of a job."""
        named = Source(_path_of(record))
        try:
            kept = ordered(record)
            order = kept_order(self._workspace, record.engine, kept)
            outcome = await self._taken(record, kept, order, named, wait=wait)
        except PostponedError as error:
            self._on_event(Event(named, "waiting", str(error)))
            return Outcome(named, "waiting", error=error, job=record)
        except MantisreedError as error:
            self._on_event(Event(named, "failed"))
            return Outcome(named, "failed", error=error, job=record)
        self._on_event(Event(named, "working" if outcome.state == "working" else "done"))
        now = await self._writer.noted(lambda ledger: ledger.listing.job(record.id))
        return replace(outcome, job=now)

    async def asked(self, order: Order, piece: PieceRecord) -> None:
        """Ask once for a piece that the engine says is done, whoever waits for it.

        Raises:
            EngineError: the job failed, or the engine does not know it.
            PostponedError: the engine cannot be asked for now.
        """
        await self._mover(order).asked(piece)

    async def brought(self, order: Order, piece: PieceRecord, body: bytes) -> None:
        """Take the reply to a piece that the engine has brought by itself.

        Raises:
            UnreadableReplyError: it is damaged; the piece will be asked for.
        """
        await self._mover(order).brought(piece, body)

    async def _taken(self, record: JobRecord, kept: JobOrder, order: Order, named: Source, *, wait: bool) -> Outcome:
        if not await self._writer.noted(lambda ledger: ledger.is_left(record.id)):
            raise PostponedError("another process has it under way", where=record.recording)
        pieces = await self._writer.noted(lambda ledger: ledger.listing.pieces(record.id))
        wanted = _wanted(record, pieces)
        mover = self._mover(order)

        def tell(stage: str, note: str, until: float | None = None) -> None:
            self._on_event(Event(named, stage, note, None, until, time.time()))  # type: ignore[arg-type]

        async def ask(piece: PieceRecord) -> MantisreedError | None:
            try:
                await mover.collected(piece, tell, wait=wait)
            except MantisreedError as error:
                return error
            return None

        self._on_event(Event(named, "working"))
        errors = await asyncio.gather(*(ask(piece) for piece in wanted if piece.state == "working"))
        pieces = await self._writer.noted(lambda ledger: ledger.listing.pieces(record.id))
        wanted = _wanted(record, pieces)
        if record.made is not None and all(piece.state == "done" for piece in wanted):
            return await self._written(record, kept, order, named)
        if error := next((error for error in errors if error and not isinstance(error, PostponedError)), None):
            await self._writer.noted(lambda ledger: ledger.set_job(record.id, "failed", str(error)))
            raise error
        if error := next((error for error in errors if error), None):
            raise error
        if any(piece.state == "working" for piece in wanted) and record.made is not None:
            return Outcome(named, "working")
        advice = f"`mantisreed retry {record.id[:8]}` sends what is missing"
        raise PostponedError("not all of it was sent", where=record.recording, advice=advice)

    async def _written(self, record: JobRecord, kept: JobOrder, order: Order, named: Source) -> Outcome:
        transcript, made = await self._writer.noted(lambda ledger: kept_transcript(ledger, record, order))
        formats = chosen_formats(kept.to)
        into, hidden = path_at(kept.into), self._workspace.hidden
        outputs = Outputs(into, hidden, formats, options=kept.writing, overwrite=self._overwrite)
        written = await asyncio.to_thread(outputs.write, kept.output_stem, named, transcript)
        if await self._writer.noted(lambda ledger: ledger.set_job(record.id, "done")) != "done":
            advice = f"`mantisreed retry {record.id[:8]}` sends it again"
            raise PostponedError("a reply proved to be another job's", where=record.recording, advice=advice)
        outcome = outcome_of(named, transcript, made.damage, written)
        return replace(outcome, remarks=tuple(_remarks(record, kept, order)))

    def _mover(self, order: Order) -> Mover:
        key = (order.card.name, order.target is not None)
        if key not in self._movers:
            self._movers[key] = Mover(
                client_for(order.card, order.secrets, self._transport, clock=time.time),
                order.card,
                order.wishes,
                self._writer,
                tries=order.tries,
            )
            if self._interrupted:
                self._movers[key].stop(self._interrupted)
        return self._movers[key]


def retry(
    workspace: Workspace,
    ids: Sequence[str] = (),
    *,
    states: tuple[str, ...] = ("failed", "waiting", "in doubt"),
    on_event: Show = lambda event: None,
) -> list[Outcome]:
    """Send again what is missing of jobs, as they were ordered, and wait for it. What was answered is not paid again.

    Args:
        workspace: with the engine cards and the ledger.
        ids: of jobs, or beginnings of them; none means all in these states.
        states: of the jobs that are meant without ids.
        on_event: called as recordings move along.

    Raises:
        InputError: an id begins no job, or several; or the ledger cannot be used.
    """
    outcomes: list[Outcome] = []
    batches: dict[bytes, list[tuple[JobRecord, JobOrder]]] = {}
    for record in chosen_jobs(workspace, ids, states):
        named = Source(_path_of(record))
        try:
            kept = ordered(record)
        except InputError as error:
            outcomes.append(Outcome(named, "failed", error=error, job=record))
            continue
        alike = msgspec.structs.replace(kept, source="", name="", stem="")
        batches.setdefault(msgspec.json.encode([record.engine, alike]), []).append((record, kept))
    for batch in batches.values():
        outcomes += _sent_again(workspace, batch, on_event)
    return outcomes


def _sent_again(workspace: Workspace, batch: Sequence[tuple[JobRecord, JobOrder]], on_event: Show) -> list[Outcome]:
    """The outcomes of jobs that were ordered alike."""
    failed, expected, recordings = [], {}, []
    first, kept = batch[0]
    try:
        order = kept_order(workspace, first.engine, kept)
    except InputError as error:
        return [Outcome(Source(_path_of(record)), "failed", error=error, job=record) for record, _ in batch]
    for record, one in batch:
        try:
            source = one.recording
            if source.link is None and not source.path.exists():
                raise InputError("the recording is not there any more", where=source.shown)
        except InputError as error:
            failed.append(Outcome(Source(_path_of(record)), "failed", error=error, job=record))
            continue
        recordings.append(source)
        expected[source.key] = record.digest
    outputs = Outputs(path_at(kept.into), workspace.hidden, chosen_formats(kept.to), options=kept.writing)
    if not recordings:
        return failed
    return failed + run_order(workspace, order, outputs, recordings, expected=expected, on_event=on_event)


def cancel(workspace: Workspace, ids: Sequence[str]) -> list[tuple[JobRecord, str]]:
    """Call jobs off, also at their engines where the cards say how; what was answered stays kept.

    Returns:
        Each job, and what became of it at its engine.

    Raises:
        InputError: an id begins no job, or several; or another process is sending a piece of one.
    """
    jobs = chosen_jobs(workspace, ids, ())

    async def work(ledger: Ledger) -> list[tuple[JobRecord, str]]:
        async with LateTransport() as transport:
            told = []
            for job in jobs:
                if job.state in ("done", "cancelled"):
                    told.append((job, f"is {job.state} already"))
                    continue
                tickets = [Ticket(values) for values in ledger.cancel(job.id, "called off by the user")]
                told.append((job, await _called_off(workspace, job, tickets, transport)))
            return told

    with closing(open_ledger(workspace)) as ledger:
        return asyncio.run(work(ledger))


async def _called_off(workspace: Workspace, job: JobRecord, tickets: list[Ticket], transport: LateTransport) -> str:
    if not tickets:
        return "nothing of it was at the engine"
    try:
        order = kept_order(workspace, job.engine, ordered(job))
        client = client_for(order.card, order.secrets, transport)
        done = [await client.cancel(ticket) for ticket in tickets]
    except (EngineError, InputError) as error:
        return f"the engine goes on with it ({error}); its answer will not be used"
    if all(done):
        return "called off at the engine too"
    return f"the card of {job.engine} has no [cancel]; the engine goes on with it, and its answer will not be used"


def forget(workspace: Workspace, ids: Iterable[str]) -> list[tuple[JobRecord, int]]:
    """Remove the kept replies of jobs; each job, with how many files are gone. What was paid stays noted.

    Raises:
        InputError: an id begins no job, or several.
    """
    with closing(open_ledger(workspace)) as ledger:
        return [(record, ledger.forget(record.id)) for record in (ledger.listing.job(one) for one in ids)]


def _wanted(record: JobRecord, pieces: Sequence[PieceRecord]) -> list[PieceRecord]:
    """The pieces that a job's transcript is made of; those known, when not all are."""
    if record.made is None:
        return [piece for piece in pieces if piece.state not in ("cancelled", "failed")]
    by_request = {piece.request: piece for piece in pieces}
    made = msgspec.json.decode(record.made, type=Made)
    return [by_request[request] for request in made.pieces if request in by_request]


def _path_of(record: JobRecord) -> Path:
    source = ordered(record).source if record.order else ""
    return path_at(source) if source.startswith("file:") else Path(record.recording)


def _remarks(record: JobRecord, kept: JobOrder, order: Order) -> Iterable[str]:
    """What has changed since a job was sent."""
    address = card_address(order.card)
    if request_address(address, order.wishes, record.digest, (order.pieces,))[:12] != record.id:
        yield f"the settings of {record.engine} were changed since {record.recording} was sent; it was sent as before"
    path = path_at(kept.source) if kept.source.startswith("file:") else None
    if path is None:
        return
    try:
        is_same = file_digest(path) == record.digest
    except OSError:
        return  # it may have gone; nothing needs it any more
    if not is_same:
        yield f"{record.recording} was changed since it was sent; the transcript is of what was sent"
