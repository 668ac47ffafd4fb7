"""From recordings to files: prepare, send, read, write, many recordings at once."""

import asyncio
import hashlib
import logging
import os
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

import msgspec

from mantisreed.audio.decode import Decoder
from mantisreed.audio.encode import FORMATS, AudioFormat, encode
from mantisreed.engines.card import EngineCard
from mantisreed.engines.reply import read_answer
from mantisreed.engines.request import build_request
from mantisreed.engines.secrets import Secret
from mantisreed.engines.transport import Transport
from mantisreed.errors import MantisreedError, RecordingError, TooBigError
from mantisreed.files import file_digest, shown
from mantisreed.jobs.pace import RollingWindow
from mantisreed.pipeline.outputs import Outputs
from mantisreed.transcript.document import NOTHING_HEARD, RecordingFacts, Transcript
from mantisreed.units import short_duration, short_size

_log = logging.getLogger(__name__)

State = Literal["done", "nothing heard", "incomplete", "failed"]
Stage = Literal["preparing", "waiting", "working", "done", "failed"]


@dataclass(frozen=True, slots=True)
class Event:
    """A recording has come to another stage. `note` says why, where there is something to say."""

    recording: Path
    stage: Stage
    note: str = ""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one recording.

    Attributes:
        recording: its path as it was named.
        state: `incomplete` when the recording itself breaks off, and what there was of it is transcribed.
        transcript: None when it failed.
        files: what was written.
        error: why it failed, or what is incomplete.
    """

    recording: Path
    state: State
    transcript: Transcript | None = None
    files: tuple[Path, ...] = ()
    error: MantisreedError | None = None


@dataclass(frozen=True, slots=True)
class Order:
    """What to do with the recordings.

    Attributes:
        card: the engine.
        secrets: its secrets, by name.
        language: what to ask the engine for; None lets it find out.
        track: which track of sound, from 1; None takes the default one.
    """

    card: EngineCard
    secrets: Mapping[str, Secret] = field(repr=False)
    language: str | None = None
    track: int | None = None


@dataclass(frozen=True, slots=True)
class _Piece:
    audio: bytes
    form: AudioFormat
    facts: RecordingFacts
    notes: tuple[str, ...]


class Runner:
    """Takes recordings to transcripts by one engine, several at once, one request each."""

    def __init__(
        self,
        order: Order,
        outputs: Outputs,
        transport: Transport,
        *,
        on_event: Callable[[Event], None] = lambda event: None,
        clock: Callable[[], float] = time.monotonic,
        sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
    ) -> None:
        """Start nothing yet. `clock` and `sleep` are given by tests."""
        self._order = order
        self._outputs = outputs
        self._transport = transport
        self._on_event = on_event
        self._clock = clock
        self._sleep = sleep
        pace = order.card.pace
        self._window = RollingWindow(pace.requests, pace.window)
        self._sending = asyncio.Semaphore(pace.at_once)
        self._preparing = asyncio.Semaphore(os.cpu_count() or 1)

    async def run(self, recordings: Sequence[Path]) -> list[Outcome]:
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

    async def _finished(self, recording: Path, stem: str) -> Outcome:
        try:
            outcome = await self._transcribed(recording, stem)
        except MantisreedError as error:
            _log.info("%s failed: %s", shown(recording), error)
            self._on_event(Event(recording, "failed"))
            return Outcome(recording, "failed", error=error)
        self._on_event(Event(recording, "done", "" if outcome.state == "done" else outcome.state))
        return outcome

    async def _transcribed(self, recording: Path, stem: str) -> Outcome:
        self._outputs.check(stem)
        async with self._preparing:
            self._on_event(Event(recording, "preparing"))
            piece = await asyncio.to_thread(_prepared, recording, self._order)
        transcript = await self._asked(recording, piece)
        files = await asyncio.to_thread(self._outputs.write, stem, recording, transcript)
        if piece.notes:
            error = RecordingError(
                piece.notes[0], where=shown(recording), advice="what there is of it is transcribed"
            )
            return Outcome(recording, "incomplete", transcript, tuple(files), error)
        return Outcome(recording, "done" if transcript.passages else "nothing heard", transcript, tuple(files))

    async def _asked(self, recording: Path, piece: _Piece) -> Transcript:
        card, language = self._order.card, self._order.language
        request = build_request(card, piece.audio, piece.form, language=language, secrets=self._order.secrets)
        async with self._sending:
            await self._wait_for_turn(recording)
            self._on_event(Event(recording, "working", f"{short_size(len(piece.audio))} {piece.form.name}"))
            _log.info("%s %s with %d bytes of %s", request.method, request.url, len(piece.audio), piece.form.name)
            answer = await self._transport.exchange(request)
        _log.info("%s answered %d with %d bytes", card.name, answer.status, len(answer.body))
        reading = read_answer(card, answer, duration=piece.facts.duration, secrets=self._order.secrets)
        return Transcript(
            recording=piece.facts,
            engine=card.name,
            job=_job_address(piece.facts, piece.form, self._order),
            language=reading.language or language,
            speakers=tuple(dict.fromkeys(p.speaker for p in reading.passages if p.speaker is not None)),
            passages=reading.passages,
            notes=(*piece.notes, *(() if reading.passages else (NOTHING_HEARD,))),
        )

    async def _wait_for_turn(self, recording: Path) -> None:
        wait = self._window.next_start(self._clock()) - self._clock()
        if wait > 0:
            pace = self._order.card.pace
            note = f"{self._order.card.name} allows {pace.requests} per {pace.window:g} s: next in {wait:.0f} s"
            self._on_event(Event(recording, "waiting", note))
            await self._sleep(wait)


def _prepared(recording: Path, order: Order) -> _Piece:
    """Decode and encode a recording, in the first of the engine's formats that fits its cap."""
    accepts = order.card.accepts
    for name in accepts.formats:
        form = FORMATS[name]
        decoder = Decoder(recording, sample_rate=accepts.sample_rate, track=order.track)
        audio = encode(decoder, form, sample_rate=accepts.sample_rate, most_bytes=accepts.most_bytes)
        if accepts.longest is not None and decoder.seconds > accepts.longest:
            raise _too_long(order.card, decoder)
        if audio is not None:
            digest = file_digest(recording)
            facts = RecordingFacts(shown(recording.name), digest, round(decoder.seconds, 3))
            return _Piece(audio, form, facts, tuple(_damage(decoder)))
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


def _job_address(facts: RecordingFacts, form: AudioFormat, order: Order) -> str:
    """The address of this work: recording, span, encoding, card without secrets and pace, and options."""
    card = msgspec.structs.replace(order.card, secrets={}, pace=type(order.card.pace)(), price=None, about="")
    described = msgspec.json.encode(
        [facts.digest, [0.0, facts.duration], form.name, card, order.language, order.track],
        enc_hook=str,
        order="sorted",
    )
    return hashlib.sha256(described).hexdigest()[:12]
