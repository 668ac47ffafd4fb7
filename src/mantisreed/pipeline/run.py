"""From recordings to files: prepare, send, read, write, many recordings at once."""

import asyncio
import logging
import os
import time
from collections import Counter
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from mantisreed.audio.cuts import Span
from mantisreed.audio.workers import DecodingWorkers
from mantisreed.engines.asking import client_for, reading_of
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import Answered
from mantisreed.engines.reply import Reading
from mantisreed.engines.request import Piece, Wishes, wants_link
from mantisreed.engines.secrets import Secret
from mantisreed.errors import (
    BadRequestError,
    MantisreedError,
    PostponedError,
    RecordingError,
    TooBigError,
    UnreadableReplyError,
)
from mantisreed.files import bytes_digest, file_digest, make_folder, shown, write_whole
from mantisreed.jobs.moving import Mover, Work, card_address, request_address
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.pieces import PieceOptions, Preparation, PreparedPiece
from mantisreed.pipeline.sources import Source, local_file
from mantisreed.transcript.document import NOTHING_HEARD, RecordingFacts, Transcript
from mantisreed.transcript.stitch import PieceReading, stitch_channels
from mantisreed.units import short_size
from mantisreed.workspace import TRIES

if TYPE_CHECKING:
    from mantisreed.engines.links import LinkServer
    from mantisreed.engines.transport import Transport
    from mantisreed.jobs.ledger import Ledger

_log = logging.getLogger(__name__)

State = Literal["done", "nothing heard", "incomplete", "waiting", "failed"]
Stage = Literal["fetching", "preparing", "waiting", "sending", "working", "done", "failed"]


@dataclass(frozen=True, slots=True)
class Event:
    """A recording has come to another stage. `note` says why, where there is something to say."""

    recording: Source
    stage: Stage
    note: str = ""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one recording.

    Attributes:
        recording: where it came from.
        state: `incomplete` when the recording itself breaks off, and what there was of it is transcribed; `waiting`
            when its engine is left alone for now.
        transcript: None when it failed.
        files: what was written.
        error: why it failed, or what is incomplete.
    """

    recording: Source
    state: State
    transcript: Transcript | None = None
    files: tuple[Path, ...] = ()
    error: MantisreedError | None = None


@dataclass(frozen=True, slots=True)
class Order:
    """What to do with the recordings.

    Attributes:
        card: the engine, with profile and task laid over it.
        secrets: its secrets, by name.
        language: the tag of the language spoken; None lets the engine find out.
        target: the tag of the language to answer in; None for that of the recording.
        wishes: language, target and hints as the engine calls them.
        pieces: how recordings are prepared.
        afresh: ask again also for what has been answered.
        tries: how often a request that fails in a way that may pass is sent.
    """

    card: EngineCard
    secrets: Mapping[str, Secret] = field(repr=False)
    language: str | None = None
    target: str | None = None
    wishes: Wishes = field(default_factory=Wishes)
    pieces: PieceOptions = field(default_factory=PieceOptions)
    afresh: bool = False
    tries: int = TRIES


@dataclass(frozen=True, slots=True)
class _Heard:
    span: Span
    reading: Reading
    channel: int | None


class Runner:
    """Takes recordings to transcripts by one engine, several at once, long ones in pieces."""

    def __init__(
        self,
        order: Order,
        outputs: Outputs,
        transport: "Transport",
        hidden: Path,
        *,
        workers: DecodingWorkers | None = None,
        links: "LinkServer | None" = None,
        on_event: Callable[[Event], None] = lambda event: None,
        clock: Callable[[], float] = time.time,
        sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
    ) -> None:
        """Start nothing yet.

        Args:
            order: what to do.
            outputs: where results go.
            transport: what carries requests.
            hidden: the workspace's hidden folder.
            workers: where long recordings are decoded; None decodes them in this process.
            links: where pieces are offered to engines that want a link.
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
        self._card_address = card_address(order.card)
        self._mover = Mover(
            client_for(order.card, order.secrets, transport, clock=clock),
            order.card,
            order.wishes,
            self._open_ledger,
            afresh=order.afresh,
            tries=order.tries,
            clock=clock,
            sleep=sleep,
        )
        self._preparing = asyncio.Semaphore(os.cpu_count() or 1)

    async def run(self, recordings: Sequence[Source]) -> list[Outcome]:
        """The outcome of each recording, in order. One failure never stops the others."""
        stems = [self._outputs.stem_for(recording) for recording in recordings]
        jobs = list(enumerate(zip(recordings, stems, strict=True)))
        outcomes: dict[int, Outcome] = {}

        async def work() -> None:
            while jobs:
                number, (recording, stem) = jobs.pop(0)
                outcomes[number] = await self._finished(recording, stem)

        # As many are under way as can be sent and prepared at once: memory stays bounded for any number of them.
        workers = self._order.card.pace.at_once + (os.cpu_count() or 1)
        beating = asyncio.create_task(self._mover.beat())
        try:
            await asyncio.gather(*(work() for _ in range(workers)))
        finally:
            beating.cancel()
            await asyncio.gather(beating, return_exceptions=True)
            self._mover.close()
        return [outcomes[number] for number in range(len(recordings))]

    async def _finished(self, recording: Source, stem: str) -> Outcome:
        try:
            outcome = await self._transcribed(recording, stem)
        except PostponedError as error:
            self._on_event(Event(recording, "waiting", str(error)))
            return Outcome(recording, "waiting", error=error)
        except MantisreedError as error:
            _log.info("%s failed: %s", recording.shown, error)
            self._on_event(Event(recording, "failed"))
            return Outcome(recording, "failed", error=error)
        self._on_event(Event(recording, "done", "" if outcome.state == "done" else outcome.state))
        return outcome

    async def _transcribed(self, recording: Source, stem: str) -> Outcome:
        self._outputs.check(stem)
        if recording.link:
            self._on_event(Event(recording, "fetching"))
        async with local_file(recording, self._hidden / "fetched") as path:
            self._on_event(Event(recording, "preparing"))
            try:
                prepared = await asyncio.to_thread(self._preparation, recording, path)
                job, facts, readings = await self._worked_through(recording, prepared, path)
            except RecordingError as error:
                error.where = recording.shown
                raise
        transcript = self._transcript(facts, job, prepared, readings)
        files = await asyncio.to_thread(self._outputs.write, stem, recording, transcript)
        if prepared.damage:
            advice = "what there is of it is transcribed"
            damage = RecordingError(prepared.damage[0], where=recording.shown, advice=advice)
            return Outcome(recording, "incomplete", transcript, tuple(files), damage)
        return Outcome(recording, "done" if transcript.passages else "nothing heard", transcript, tuple(files))

    async def _worked_through(
        self, recording: Source, prepared: Preparation, path: Path
    ) -> tuple[str, RecordingFacts, list[_Heard]]:
        """The job of a recording, and what was heard in all its pieces; the ledger says how the job ended."""
        opening = asyncio.create_task(self._opened(recording, path))
        try:
            readings = await self._readings(recording, prepared, opening)
            job, digest = await opening
        except MantisreedError as error:
            state, reason = "waiting" if isinstance(error, PostponedError) else "failed", str(error)
            if opening.done() and not opening.exception():
                failed = opening.result()[0]
                await self._mover.noted(lambda ledger: ledger.close_job(failed, state, reason))
            raise
        finally:
            opening.cancel()
        await self._mover.noted(lambda ledger: ledger.close_job(job, "done", None, prepared.duration))
        return job, RecordingFacts(recording.name, digest, round(prepared.duration, 3)), readings

    async def _opened(self, recording: Source, path: Path) -> tuple[str, str]:
        """The job of a recording, noted in the ledger, and the recording's digest."""
        digest = await asyncio.to_thread(file_digest, path)
        card, job = self._order.card, self._address(digest, self._order.pieces)[:12]
        currency = card.price.currency if card.price else None
        await self._mover.noted(lambda ledger: ledger.open_job(job, recording.shown, digest, card.name, currency))
        return job, digest

    def _open_ledger(self) -> "Ledger":
        from mantisreed.jobs.ledger import Ledger  # it takes long to import; pieces are prepared meanwhile

        return Ledger(self._hidden)

    def _preparation(self, recording: Source, path: Path) -> Preparation:
        card, options = self._order.card, self._order.pieces
        if recording.link and wants_link(card):
            options = replace(options, untouched=True)
        return Preparation(path, card, options, self._workers)

    def _address(self, digest: str, *described: object) -> str:
        """Of a request, or of a job: recording, card and wishes, and what else makes it what it is."""
        return request_address(self._card_address, self._order.wishes, digest, described)

    def _transcript(
        self, facts: RecordingFacts, job: str, prepared: Preparation, readings: Sequence[_Heard]
    ) -> Transcript:
        order = self._order
        stitched = stitch_channels(
            {
                channel: [
                    PieceReading(heard.span.start, heard.span.end, heard.reading.passages)
                    for heard in readings
                    if heard.channel == channel
                ]
                for channel in sorted({heard.channel for heard in readings}, key=lambda channel: channel or 0)
            }
        )
        languages = Counter(heard.reading.language for heard in readings if heard.reading.language)
        spoken = languages.most_common(1)[0][0] if languages else None
        nothing = () if stitched.passages else (NOTHING_HEARD,)
        return Transcript(
            recording=facts,
            engine=order.card.name,
            job=job,
            language=order.target or _tag_for(order.card, spoken) or order.language,
            speakers=tuple(dict.fromkeys(p.speaker for p in stitched.passages if p.speaker is not None)),
            passages=stitched.passages,
            notes=(*prepared.damage, *prepared.notes, *stitched.notes, *nothing),
        )

    async def _readings(
        self, recording: Source, prepared: Preparation, opening: "asyncio.Task[tuple[str, str]]"
    ) -> list[_Heard]:
        """What the engine heard in each piece, in order; pieces are prepared as there is room for them."""
        room = asyncio.Semaphore(self._order.card.pace.at_once + 1)
        tasks: list[asyncio.Task[list[_Heard]]] = []
        pieces = iter(prepared)

        async def one(piece: PreparedPiece, number: int) -> list[_Heard]:
            try:
                job, digest = await asyncio.shield(opening)
                return await self._heard_in(recording, prepared, job, digest, piece, number)
            finally:
                room.release()

        try:
            while True:
                await room.acquire()
                async with self._preparing:
                    piece = await asyncio.to_thread(next, pieces, None)
                if piece is None or any(task.done() and task.exception() for task in tasks):
                    break
                tasks.append(asyncio.create_task(one(piece, len(tasks) + 1)))
            return [heard for part in await asyncio.gather(*tasks) for heard in part]
        finally:
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)
            await asyncio.to_thread(prepared.close)

    async def _heard_in(
        self, recording: Source, prepared: Preparation, job: str, digest: str, part: PreparedPiece, number: int
    ) -> list[_Heard]:
        """What the engine heard in one piece; when it says that the piece is too big, in smaller ones."""
        piece = part.piece
        if prepared.is_untouched and recording.link:
            piece = replace(piece, link=recording.link)
        which = "" if prepared.is_whole else f"piece {number}, "
        address = self._address(
            digest,
            self._order.pieces.track,
            part.channel,
            round(part.span.start, 6),
            round(part.span.end, 6),
            piece.form.name,
            piece.form.bit_rate,
            piece.sample_rate,
        )
        work = Work(job, address, part.span.start, part.span.end, part.channel, piece)
        try:
            return [_Heard(part.span, await self._heard(recording, work, which), part.channel)]
        except TooBigError:
            smaller = await asyncio.to_thread(list, prepared.recut(part))
            heard = [await self._heard_in(recording, prepared, job, digest, one, number) for one in smaller]
            return [one for several in heard for one in several]

    async def _heard(self, recording: Source, work: Work, which: str) -> Reading:
        card, piece = self._order.card, work.piece
        size = f"{which}{short_size(len(piece.audio))} {piece.form.name}"

        def tell(stage: str, note: str) -> None:
            self._on_event(Event(recording, stage, size if stage == "sending" else note))  # type: ignore[arg-type]

        link = self._offered(piece) if wants_link(card) and piece.link is None else None
        if wants_link(card) and not (link or piece.link):
            advice = 'set [links] public = "https://..." in the settings'
            raise BadRequestError("it wants a link to each piece, and we have none", engine=card.name, advice=advice)
        try:
            sent = replace(work, piece=replace(piece, link=link)) if link else work
            body = await self._mover.reply(sent, tell)
            return reading_of(card, Answered(body), piece, self._order.secrets)
        except UnreadableReplyError as error:
            if error.body:
                error.advice = f"the whole reply is kept in {shown(self._kept(error.body))}"
            raise
        finally:
            if link and self._links:
                self._links.withdraw(link)

    def _offered(self, piece: Piece) -> str | None:
        if self._links is None:
            return None
        return self._links.offer(piece.audio, piece.form.content_type, piece.form.extension)

    def _kept(self, body: bytes) -> Path:
        """A reply that could not be read, on disk for somebody to look at."""
        path = self._hidden / "unreadable" / f"{bytes_digest([body]).removeprefix('sha256:')[:16]}.reply"
        make_folder(path.parent)
        write_whole(path, body)
        return path


def _tag_for(card: EngineCard, name: str | None) -> str | None:
    """The tag that the card maps to what the engine calls a language; its own word where none is."""
    return next((tag for tag, called in card.accepts.language_names.items() if called == name), name)
