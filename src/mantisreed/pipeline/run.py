"""From recordings to files: prepare, send, read, write, many recordings at once."""

import asyncio
import hashlib
import logging
import os
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import msgspec

from mantisreed.audio.decode import Decoder
from mantisreed.audio.encode import FORMATS, encode
from mantisreed.audio.speech import SpeechListener
from mantisreed.engines.asking import client_for, reading_of, wait_for_reply
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import Answered
from mantisreed.engines.links import LinkServer
from mantisreed.engines.reply import Reading
from mantisreed.engines.request import Piece, Wishes, wants_link
from mantisreed.engines.secrets import Secret
from mantisreed.engines.transport import Transport
from mantisreed.errors import MantisreedError, RecordingError, TooBigError, UnreadableReplyError
from mantisreed.files import bytes_digest, file_digest, make_folder, shown, write_whole
from mantisreed.jobs.pace import RollingWindow
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.sources import Source, local_file
from mantisreed.transcript.document import NOTHING_HEARD, RecordingFacts, Transcript
from mantisreed.units import short_duration, short_size

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
        track: which track of sound, from 1; None takes the default one.
    """

    card: EngineCard
    secrets: Mapping[str, Secret] = field(repr=False)
    language: str | None = None
    target: str | None = None
    wishes: Wishes = field(default_factory=Wishes)
    track: int | None = None


@dataclass(frozen=True, slots=True)
class _Prepared:
    piece: Piece
    facts: RecordingFacts
    notes: tuple[str, ...]


class Runner:
    """Takes recordings to transcripts by one engine, several at once, one request each."""

    def __init__(
        self,
        order: Order,
        outputs: Outputs,
        transport: Transport,
        hidden: Path,
        *,
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
            links: where pieces are offered to engines that want a link.
            on_event: called as recordings move along.
            clock, sleep: given by tests.

        Raises:
            InputError: the card names a Python object that cannot be loaded.
        """
        self._order = order
        self._outputs = outputs
        self._hidden = hidden
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
        prepared = await self._prepared(recording)
        transcript = await self._asked(recording, prepared)
        files = await asyncio.to_thread(self._outputs.write, stem, recording, transcript)
        if prepared.notes:
            advice = "what there is of it is transcribed"
            error = RecordingError(prepared.notes[0], where=recording.shown, advice=advice)
            return Outcome(recording, "incomplete", transcript, tuple(files), error)
        return Outcome(recording, "done" if transcript.passages else "nothing heard", transcript, tuple(files))

    async def _prepared(self, recording: Source) -> _Prepared:
        async with self._preparing:
            if recording.link:
                self._on_event(Event(recording, "fetching"))
            async with local_file(recording, self._hidden / "fetched") as path:
                self._on_event(Event(recording, "preparing"))
                return await asyncio.to_thread(_prepare, recording, path, self._order)

    async def _asked(self, recording: Source, prepared: _Prepared) -> Transcript:
        order, piece = self._order, prepared.piece
        async with self._sending:
            await self._wait_for_turn(recording)
            reading = await self._reading(recording, piece)
        return Transcript(
            recording=prepared.facts,
            engine=order.card.name,
            job=_job_address(prepared.facts, piece, order),
            language=order.target or _tag_for(order.card, reading.language) or order.language,
            speakers=tuple(dict.fromkeys(p.speaker for p in reading.passages if p.speaker is not None)),
            passages=reading.passages,
            notes=(*prepared.notes, *(() if reading.passages else (NOTHING_HEARD,))),
        )

    async def _reading(self, recording: Source, piece: Piece) -> Reading:
        card = self._order.card
        self._on_event(Event(recording, "sending", f"{short_size(len(piece.audio))} {piece.form.name}"))
        link = self._offered(piece) if wants_link(card) and piece.link is None else None
        try:
            answered = await self._answered(recording, replace(piece, link=link) if link else piece)
            return reading_of(card, answered, piece, self._order.secrets)
        except UnreadableReplyError as error:
            if error.body:
                error.advice = f"the whole reply is kept in {shown(self._kept(error.body))}"
            raise
        finally:
            if link and self._links:
                self._links.withdraw(link)

    async def _answered(self, recording: Source, piece: Piece) -> Answered:
        taken = await self._client.submit(piece, self._order.wishes)
        if isinstance(taken, Answered):
            return taken
        self._on_event(Event(recording, "working"))
        return await wait_for_reply(self._client, self._order.card, taken, clock=self._clock, sleep=self._sleep)

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


def _prepare(recording: Source, path: Path, order: Order) -> _Prepared:
    """Decode and encode a recording, in the first of the engine's formats that fits its cap."""
    accepts = order.card.accepts
    for name in accepts.formats:
        form = FORMATS[name]
        decoder = Decoder(path, sample_rate=accepts.sample_rate, track=order.track)
        listener = SpeechListener(accepts.sample_rate)
        try:
            blocks = listener.through(decoder)
            audio = encode(blocks, form, sample_rate=accepts.sample_rate, most_bytes=accepts.most_bytes)
        except RecordingError as error:
            error.where = recording.shown
            raise
        if accepts.longest is not None and decoder.seconds > accepts.longest:
            raise _too_long(order.card, decoder)
        if audio is not None:
            facts = RecordingFacts(recording.name, file_digest(path), round(decoder.seconds, 3))
            speech = tuple((stretch.start, stretch.end) for stretch in listener.stretches())
            piece = Piece(audio, form, accepts.sample_rate, 1, decoder.seconds, speech, recording.link)
            return _Prepared(piece, facts, tuple(_damage(decoder)))
    assert accepts.most_bytes is not None
    raise TooBigError(
        f"the recording is over the {short_size(accepts.most_bytes)} that it takes in one request, "
        f"as {', '.join(accepts.formats)}",
        engine=order.card.name,
        advice="cut the recording into shorter files",
    )


def _too_long(card: EngineCard, decoder: Decoder) -> TooBigError:
    longest = short_duration(card.accepts.longest or 0.0)
    return TooBigError(
        f"the recording is {short_duration(decoder.seconds)} long or more, over the {longest} that it takes",
        engine=card.name,
        advice="cut the recording into shorter files",
    )


def _damage(decoder: Decoder) -> list[str]:
    if decoder.is_cut_short:
        promised = short_duration(decoder.contents.duration or 0.0)
        return [f"the recording breaks off at {short_duration(decoder.seconds)} of {promised}"]
    if decoder.damaged:
        return [f"{decoder.damaged} damaged parts of the recording were left out"]
    return []


def _tag_for(card: EngineCard, name: str | None) -> str | None:
    """The tag that the card maps to what the engine calls a language; its own word where none is."""
    return next((tag for tag, called in card.accepts.language_names.items() if called == name), name)


def _job_address(facts: RecordingFacts, piece: Piece, order: Order) -> str:
    """The address of this work: recording, span, encoding, card without secrets and pace, and options."""
    card = msgspec.structs.replace(order.card, secrets={}, pace=type(order.card.pace)(), price=None, about="")
    described = msgspec.json.encode(
        [facts.digest, [0.0, facts.duration], piece.form.name, card, order.wishes, order.track],
        enc_hook=str,
        order="sorted",
    )
    return hashlib.sha256(described).hexdigest()[:12]
