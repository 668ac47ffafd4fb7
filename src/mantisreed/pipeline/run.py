"""From recordings to files: prepare, send, read, write, many recordings at once."""

import asyncio
import hashlib
import logging
import os
import time
from collections import Counter
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import msgspec

from mantisreed.audio.cuts import Span
from mantisreed.audio.workers import DecodingWorkers
from mantisreed.engines.asking import client_for, reading_of, reply_to
from mantisreed.engines.card import EngineCard
from mantisreed.engines.links import LinkServer
from mantisreed.engines.reply import Reading
from mantisreed.engines.request import Piece, Wishes, wants_link
from mantisreed.engines.secrets import Secret
from mantisreed.engines.transport import Transport
from mantisreed.errors import BadRequestError, MantisreedError, RecordingError, TooBigError, UnreadableReplyError
from mantisreed.files import bytes_digest, file_digest, make_folder, shown, write_whole
from mantisreed.jobs.pace import RollingWindow
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.pieces import PieceOptions, Preparation, PreparedPiece
from mantisreed.pipeline.sources import Source, local_file
from mantisreed.transcript.document import NOTHING_HEARD, RecordingFacts, Transcript
from mantisreed.transcript.stitch import PieceReading, stitch_channels
from mantisreed.units import short_size

_log = logging.getLogger(__name__)

State = Literal["done", "nothing heard", "incomplete", "failed"]
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
        state: `incomplete` when the recording itself breaks off, and what there was of it is transcribed.
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
    """

    card: EngineCard
    secrets: Mapping[str, Secret] = field(repr=False)
    language: str | None = None
    target: str | None = None
    wishes: Wishes = field(default_factory=Wishes)
    pieces: PieceOptions = field(default_factory=PieceOptions)


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
        transport: Transport,
        hidden: Path,
        *,
        workers: DecodingWorkers | None = None,
        links: LinkServer | None = None,
        on_event: Callable[[Event], None] = lambda event: None,
        clock: Callable[[], float] = time.monotonic,
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
        self._clock = clock
        self._sleep = sleep
        self._client = client_for(order.card, order.secrets, transport, clock=clock)
        pace = order.card.pace
        self._window = RollingWindow(pace.requests, pace.window)
        self._sending = asyncio.Semaphore(pace.at_once)
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
        await asyncio.gather(*(work() for _ in range(workers)))
        return [outcomes[number] for number in range(len(recordings))]

    async def _finished(self, recording: Source, stem: str) -> Outcome:
        try:
            outcome = await self._transcribed(recording, stem)
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
                digest = asyncio.create_task(asyncio.to_thread(file_digest, path))
                prepared = await asyncio.to_thread(self._preparation, recording, path)
                readings = await self._readings(recording, prepared)
                facts = RecordingFacts(recording.name, await digest, round(prepared.duration, 3))
            except RecordingError as error:
                error.where = recording.shown
                raise
        transcript = self._transcript(facts, prepared, readings)
        files = await asyncio.to_thread(self._outputs.write, stem, recording, transcript)
        if prepared.damage:
            advice = "what there is of it is transcribed"
            damage = RecordingError(prepared.damage[0], where=recording.shown, advice=advice)
            return Outcome(recording, "incomplete", transcript, tuple(files), damage)
        return Outcome(recording, "done" if transcript.passages else "nothing heard", transcript, tuple(files))

    def _preparation(self, recording: Source, path: Path) -> Preparation:
        card, options = self._order.card, self._order.pieces
        if recording.link and wants_link(card):
            options = replace(options, untouched=True)
        return Preparation(path, card, options, self._workers)

    def _transcript(self, facts: RecordingFacts, prepared: Preparation, readings: Sequence[_Heard]) -> Transcript:
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
            job=_job_address(facts, order),
            language=order.target or _tag_for(order.card, spoken) or order.language,
            speakers=tuple(dict.fromkeys(p.speaker for p in stitched.passages if p.speaker is not None)),
            passages=stitched.passages,
            notes=(*prepared.damage, *prepared.notes, *stitched.notes, *nothing),
        )

    async def _readings(self, recording: Source, prepared: Preparation) -> list[_Heard]:
        """What the engine heard in each piece, in order; pieces are prepared as there is room for them."""
        room = asyncio.Semaphore(self._order.card.pace.at_once + 1)
        tasks: list[asyncio.Task[list[_Heard]]] = []
        pieces = iter(prepared)

        async def one(piece: PreparedPiece, number: int) -> list[_Heard]:
            try:
                return await self._heard_in(recording, prepared, piece, number)
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
        self, recording: Source, prepared: Preparation, prepared_piece: PreparedPiece, number: int
    ) -> list[_Heard]:
        """What the engine heard in one piece; when it says that the piece is too big, in smaller ones."""
        span, piece = prepared_piece.span, prepared_piece.piece
        if prepared.is_untouched and recording.link:
            piece = replace(piece, link=recording.link)
        which = "" if prepared.is_whole else f"piece {number}, "
        try:
            return [_Heard(span, await self._heard(recording, piece, which), prepared_piece.channel)]
        except TooBigError:
            smaller = await asyncio.to_thread(list, prepared.recut(prepared_piece))
            heard = [await self._heard_in(recording, prepared, part, number) for part in smaller]
            return [one for several in heard for one in several]

    async def _heard(self, recording: Source, piece: Piece, which: str) -> Reading:
        card = self._order.card
        async with self._sending:
            await self._wait_for_turn(recording)
            self._on_event(Event(recording, "sending", f"{which}{short_size(len(piece.audio))} {piece.form.name}"))
            link = self._offered(piece) if wants_link(card) and piece.link is None else None
            if wants_link(card) and not (link or piece.link):
                advice = 'set [links] public = "https://..." in the settings'
                raise BadRequestError(
                    "it wants a link to each piece, and we have none", engine=card.name, advice=advice
                )
            try:
                answered = await reply_to(
                    self._client,
                    card,
                    replace(piece, link=link) if link else piece,
                    self._order.wishes,
                    on_taken=lambda: self._on_event(Event(recording, "working")),
                    clock=self._clock,
                    sleep=self._sleep,
                )
                return reading_of(card, answered, piece, self._order.secrets)
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

    async def _wait_for_turn(self, recording: Source) -> None:
        wait = self._window.next_start(self._clock()) - self._clock()
        if wait > 0:
            pace = self._order.card.pace
            note = f"{self._order.card.name} allows {pace.requests} per {pace.window:g} s: next in {wait:.0f} s"
            self._on_event(Event(recording, "waiting", note))
            await self._sleep(wait)


def _tag_for(card: EngineCard, name: str | None) -> str | None:
    """The tag that the card maps to what the engine calls a language; its own word where none is."""
    return next((tag for tag, called in card.accepts.language_names.items() if called == name), name)


def _job_address(facts: RecordingFacts, order: Order) -> str:
    """The address of this work: recording, card without secrets and pace, and options."""
    card = msgspec.structs.replace(order.card, secrets={}, pace=type(order.card.pace)(), price=None, about="")
    described = msgspec.json.encode([facts.digest, card, order.wishes, order.pieces], enc_hook=str, order="sorted")
    return hashlib.sha256(described).hexdigest()[:12]
