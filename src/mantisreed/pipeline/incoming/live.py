"""`run - --live`, for Python: a stream is heard as it comes, and each phrase goes to the engine at
once.

A phrase is a small recording with a job of its own, so that all promises of the ledger hold for it.
Its sound is on disk until it is done; memory holds the phrase that is being spoken, and nothing of
those before.
"""

import asyncio
import logging
import threading
import wave
from collections.abc import Callable, Sequence
from contextlib import AsyncExitStack, suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from itertools import chain
from pathlib import Path
from typing import BinaryIO, Literal

import msgspec

from mantisreed.audio.phrases import LivePhrase, PhraseListener
from mantisreed.audio.workers import DecodingWorkers
from mantisreed.errors import (
    InterruptedRunError,
    MantisreedError,
    OutputError,
    RecordingError,
    SpendLimitError,
    reason_of,
)
from mantisreed.exports.formats import chosen_formats
from mantisreed.files import bytes_digest, cannot_write
from mantisreed.folders import forget
from mantisreed.jobs.budget import Budget
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.followups.checking import check_follow_ups
from mantisreed.pipeline.incoming.live_files import FOLDER, PHRASES_FILE, GrowingOutputs
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.pipeline.open_files import fitted
from mantisreed.pipeline.options import RunOptions, TranscriptionOptions, transcription_options
from mantisreed.pipeline.outcomes import Outcome, State, finished_recording
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.runner import Runner, rest
from mantisreed.pipeline.transcribe import (
    RunHooks,
    check_links,
    follow_ups_maker,
    ledger_of,
    outputs_of_run,
)
from mantisreed.review.doubts import with_doubts
from mantisreed.running import interruptible, run_interruptibly
from mantisreed.sources.recordings import Source
from mantisreed.sources.streams import StoppableInput, StreamFormat, stream_blocks
from mantisreed.state import make_folder
from mantisreed.transcript.document import (
    NO_SPEECH,
    Passage,
    RecordingFacts,
    Transcript,
    speakers_of,
)
from mantisreed.transcript.stitch import shifted
from mantisreed.workspace import Workspace

_log = logging.getLogger(__name__)

DEFAULT_PAUSE = 0.6
"""Seconds without speech that end a phrase."""

_AGAIN = 5.0  # seconds until phrases that wait for an engine are tried again
_LONGEST = 30.0  # seconds of a phrase
_IN_ORDER = 1.0  # seconds that a phrase is held back for one before it

PhraseState = Literal["done", "no words", "no reply", "waiting"]


@dataclass(frozen=True, slots=True)
class LiveOptions:
    """How a stream is heard.

    Attributes:
        pause: seconds without speech that end a phrase.
        longest: seconds after which a phrase is cut all the same.
        form: how a headerless stream is written; None takes 16 kHz, one channel, 16 bits.
        name: of the recording, for its outputs; None makes one of the time.
        again: seconds until phrases that wait for an engine are tried again.
    """

    pause: float = DEFAULT_PAUSE
    longest: float = _LONGEST
    form: StreamFormat | None = None
    name: str | None = None
    again: float = _AGAIN


@dataclass(frozen=True, slots=True)
class PhraseOutcome:
    """What became of a phrase.

    Attributes:
        start, end: seconds from the beginning of the stream.
        state: `no words` when the engine heard none in it; `no reply` when it was not answered.
        passages: what was said, with times in the stream.
        error: why it failed or waits.
    """

    start: float
    end: float
    state: PhraseState
    passages: tuple[Passage, ...] = ()
    error: MantisreedError | None = None


@dataclass(frozen=True, slots=True)
class LiveOutcome:
    """What became of a stream.

    Attributes:
        outcome: of the whole, as of any recording.
        phrases, failed: how many there were, and how many of them have no answer.
        seconds: of the stream.
    """

    outcome: Outcome
    phrases: int
    failed: int
    seconds: float


def listen(
    stream: BinaryIO,
    workspace: Workspace,
    options: RunOptions | None = None,
    live: LiveOptions | None = None,
    on_phrase: Callable[[PhraseOutcome], None] = lambda outcome: None,
    on_text: Callable[[float, str], None] = lambda start, text: None,
) -> LiveOutcome:
    """Hear a stream to its end, or until the user stops it; send each phrase as soon as the speaker
    pauses.

    The first interruption finishes the phrase, waits for what is on its way, and writes all files.

    Args:
        stream: of sound.
        workspace: with the engine card.
        options: what is wanted.
        live: how the stream is heard.
        on_phrase: told what became of each phrase.
        on_text: told where a phrase begins, in seconds, and what the engine has understood of it so
            far, where its answer comes bit by bit.

    Raises:
        InputError: an option, the card, a secret or the stream is wrong; nothing was sent.
    """
    wanted, live = options or RunOptions(), live or LiveOptions()
    checked = transcription_options(workspace, wanted)
    checked = replace(checked, card=fitted(checked.card)[0])
    check_links(workspace, checked.card, [Source(Path("-"))])
    check_follow_ups(workspace, wanted)
    longest = min(live.longest, float(checked.card.accepts.max_duration))
    outputs = outputs_of_run(workspace, wanted)
    live = replace(live, longest=longest)
    session = _Session(workspace, checked, outputs, live, on_phrase, on_text)
    return run_interruptibly(session.heard(stream))


class _Kept(msgspec.Struct, frozen=True):
    """A phrase that is done with, as it is kept until the end."""

    number: int
    start: float
    end: float
    state: str
    passages: tuple[Passage, ...] = ()
    language: str | None = None
    reason: str = ""


@dataclass(slots=True)
class _Session:
    """One stream."""

    workspace: Workspace
    options: TranscriptionOptions
    outputs: Outputs
    live: LiveOptions
    on_phrase: Callable[[PhraseOutcome], None]
    on_text: Callable[[float, str], None] = lambda start, text: None
    _phrases: dict[str, tuple[int, float, float]] = field(default_factory=dict)
    _count: int = 0
    _failed: int = 0
    _seconds: float = 0.0
    _untold: dict[int, PhraseOutcome | None] = field(default_factory=dict)
    _told_early: set[int] = field(default_factory=set)
    _next_told: int = 1
    _was_last_try: bool = False
    _stop: threading.Event = field(default_factory=threading.Event)
    _error: Exception | None = None
    _runner: Runner = field(init=False)
    _folder: Path = field(init=False)
    _name: str = field(init=False)
    _growing: GrowingOutputs = field(init=False)

    async def heard(self, stream: BinaryIO) -> LiveOutcome:
        moment = datetime.now().strftime("%Y%m%d-%H%M%S")
        self._name = self.live.name or f"live-{moment}.wav"
        self._folder = self.workspace.hidden / FOLDER / f"{moment}-{id(self) % 10_000:04d}"
        make_folder(self._folder)
        source = Source(self._folder / self._name)
        stem = self.outputs.stem_for(source)
        self.outputs.check(stem)
        self._growing = GrowingOutputs(self.outputs, stem, self._folder / PHRASES_FILE)
        loop = asyncio.get_running_loop()
        reader = threading.Thread(
            target=self._read, args=(stream, loop), name="listening", daemon=True
        )
        # What is under way in a phrase is never thrown away by the first interruption.
        with DecodingWorkers() as workers, interruptible(self._stop.set):
            workers.warm_up()
            self._runner = self._runner_with(workers)
            reader.start()
            await self._runner.run(self._rest)
        for number in sorted(self._untold):
            self._tell_now(number)
        if self._error is not None and not self._seconds:
            raise self._error  # it is no stream at all
        outcome = await asyncio.to_thread(self._finish, source, stem)
        return LiveOutcome(
            await self._followed(outcome, stem), self._count, self._failed, self._seconds
        )

    def _runner_with(self, workers: DecodingWorkers) -> Runner:
        """What takes phrases to their transcripts; follow-ups are of the whole."""
        wanted = msgspec.structs.replace(self.options.wanted, translations=(), is_followed=False)
        own = Outputs(
            self._folder / "transcripts",
            self.workspace.hidden,
            chosen_formats(["json"]),
            overwrite=True,
        )
        price = self.options.card.price
        return Runner(
            self.workspace,
            replace(self.options, wanted=wanted),
            own,
            RunHooks(workers=workers, on_event=self._hear),
            kinds=[Source(Path("-"))],
            has_to_wait=self._ended,
            budget=Budget(self.options.wanted.spend_limit, price.currency if price else ""),
        )

    def _hear(self, event: Event) -> None:
        place = self._phrases.get(event.recording.path.name)
        if event.stage == "hearing" and place is not None:
            self.on_text(place[1], event.note)

    def _read(self, stream: BinaryIO, loop: asyncio.AbstractEventLoop) -> None:
        """Hear the stream, on a thread of its own: its phrases go to disk at once."""
        listener: PhraseListener | None = None
        try:
            for rate, samples in stream_blocks(
                StoppableInput(stream, self._stop.is_set), self.live.form
            ):
                listener = listener or PhraseListener(
                    rate, pause=self.live.pause, longest=self.live.longest
                )
                self._seconds += len(samples) / rate
                for phrase in listener.hear(samples):
                    self._give(phrase, rate, loop)
        except (
            Exception
        ) as error:  # what was heard until then is written, and why it broke off is told
            _log.info("the stream broke off", exc_info=True)
            self._error = error
        try:
            for phrase in listener.finish() if listener else ():
                self._give(phrase, rate, loop)
        finally:
            with suppress(RuntimeError):  # the loop has ended, and nobody waits
                loop.call_soon_threadsafe(self._runner.end)

    def _give(self, phrase: LivePhrase, rate: int, loop: asyncio.AbstractEventLoop) -> None:
        self._count += 1
        path = self._folder / f"{self._count:06d}.wav"
        place = self._count, phrase.start, phrase.start + len(phrase.samples) / rate
        try:
            _write_phrase(path, phrase, rate)
        except OSError as error:  # a full disk: this phrase is lost, and the stream goes on
            forget(path)  # a part of it may be there
            loop.call_soon_threadsafe(self._lose, *place, cannot_write(path, error))
            return
        self._phrases[path.name] = place
        loop.call_soon_threadsafe(self._runner.give, Source(path))

    def _lose(self, number: int, start: float, end: float, error: MantisreedError) -> None:
        """A phrase could not be kept, and was not sent."""
        self._keep(_Kept(number, start, end, "no reply", reason=str(error)))
        self._tell(number, PhraseOutcome(start, end, "no reply", error=error))

    def _keep(self, phrase: _Kept) -> None:
        if phrase.state == "no reply":
            self._failed += 1
        try:
            self._growing.add(phrase)
        except OutputError as error:
            _log.warning("%s", error)  # all is written once more at the end

    def _ended(self, outcome: Outcome) -> bool:
        """Tell and keep what became of a phrase; whether it has to wait."""
        number, start, end = self._phrases[outcome.recording.path.name]
        if outcome.state == "waiting" and not isinstance(
            outcome.error, (SpendLimitError, InterruptedRunError)
        ):
            self.on_phrase(PhraseOutcome(start, end, "waiting", error=outcome.error))
            self._tell(number, None)
            return True
        del self._phrases[outcome.recording.path.name]
        told = _phrase_outcome(outcome, start, end)
        language = outcome.transcript.language if outcome.transcript else None
        # The sound of what has no reply stays, so that it can be sent by hand.
        if told.state != "no reply":
            forget(outcome.recording.path)
        for file in outcome.files:
            forget(file)
        reason = "" if told.error is None else str(told.error)
        self._keep(_Kept(number, start, end, told.state, told.passages, language, reason))
        self._tell(number, told)
        return False

    def _tell(self, number: int, told: PhraseOutcome | None) -> None:
        """Tell of a phrase once those before it are told, or after a moment: what was said first is
        read first.

        Args:
            number: of the phrase.
            told: what became of it; None for one that waits, for which nobody waits any longer.
        """
        self._untold[number] = told
        if number <= self._next_told:
            self._tell_now(number)
        else:
            asyncio.get_running_loop().call_later(_IN_ORDER, self._tell_now, number)
        while self._next_told in self._untold or self._next_told in self._told_early:
            self._tell_now(self._next_told)
            self._told_early.discard(self._next_told)
            self._next_told += 1

    def _tell_now(self, number: int) -> None:
        if number not in self._untold:
            return  # it is told already
        told = self._untold.pop(number)
        if number >= self._next_told:
            self._told_early.add(number)
        if told is not None:
            self.on_phrase(told)

    async def _rest(self) -> bool:
        """Let the engine rest; whether phrases that wait for it are tried again: once the stream is
        over, only once more.
        """
        was_over = self._runner.is_over
        await rest(self.live.again, self._stop.is_set)
        # While the stream goes on there is time; behind its end somebody waits for the files.
        if was_over and self._was_last_try:
            self._give_up(self._runner.waiting)
            return False
        self._was_last_try = was_over
        return True

    def _give_up(self, waiting: Sequence[Source]) -> None:
        for source in waiting:
            number, start, end = self._phrases.pop(source.path.name)
            self._keep(_Kept(number, start, end, "no reply", reason="the engine was not there"))

    def _finish(self, source: Source, stem: str) -> Outcome:
        """Write all formats of the whole, as of any recording."""
        kept = sorted(self._growing.kept(_Kept), key=lambda one: one.number)
        passages = tuple(chain.from_iterable(one.passages for one in kept))
        languages = [one.language for one in kept if one.language]
        language = self.options.wanted.language or max(
            sorted(set(languages)), key=languages.count, default=None
        )
        unanswered = [one for one in kept if one.state == "no reply"]
        notes = [
            f"{one.start:.1f} to {one.end:.1f} s has no reply: {one.reason}" for one in unanswered
        ]
        if self._error is not None:
            notes.insert(
                0, f"the stream broke off after {self._seconds:.1f} s: {reason_of(self._error)}"
            )
        if not passages and not notes:
            notes.append(NO_SPEECH)
        # A stream is nowhere as a whole; it is known by what was made of it.
        digest = bytes_digest([self._folder.name.encode(), msgspec.json.encode(passages)])
        plain = Transcript(
            recording=RecordingFacts(source.name, digest, round(self._seconds, 3)),
            engine=self.options.card.name,
            job=digest.removeprefix("sha256:")[:16],
            language=language,
            speakers=speakers_of(passages),
            passages=passages,
            notes=tuple(notes),
        )
        transcript = with_doubts(plain, [(one.start, one.end) for one in kept])
        written = self._growing.write_whole(source, transcript)
        self._clear()
        state, error = self._ended_as(has_words=bool(passages), notes=notes)
        return Outcome(source, state, transcript, written.files, written.changes, error)

    def _ended_as(
        self, *, has_words: bool, notes: Sequence[str]
    ) -> tuple[State, MantisreedError | None]:
        """The state of the whole, and what went wrong: what has no reply is never taken for
        silence.
        """
        if self._error is None and not self._failed:
            return ("done" if has_words else "no speech"), None
        advice = "what was heard is written"
        if self._error is not None:
            return "incomplete", RecordingError(notes[0], where=self._name, advice=advice)
        if self._failed == 1:
            phrases = "1 phrase has"
        else:
            phrases = f"{self._failed} phrases have"
        what = f"{phrases} no reply: {notes[0]}"
        if has_words:
            return "incomplete", MantisreedError(what, where=self._name, advice=advice)
        return "failed", MantisreedError(what, where=self._name)

    def _clear(self) -> None:
        """Remove what is needed no more; phrases that were not answered stay, with their folder."""
        forget(self._growing.file)
        if not any(self._folder.glob("*.wav")):
            forget(self._folder)

    async def _followed(self, outcome: Outcome, stem: str) -> Outcome:
        """The outcome with those of what is done with the whole transcript."""
        if not self.options.wanted.has_follow_ups(self.workspace):
            return outcome
        async with AsyncExitStack() as stack:
            transport = await stack.enter_async_context(LateTransport())
            make = follow_ups_maker(self.workspace, self.options, transport)
            assert make is not None
            writer = LedgerWriter(lambda: ledger_of(self.workspace))
            stack.callback(writer.close)
            budget = self._runner.budget or Budget()
            follow_ups = make(writer.perform, self.outputs, lambda job: (budget,))
            job = outcome.transcript.job if outcome.transcript else None
            finished = finished_recording(outcome, stem, self.outputs.names, job, None)
            ended = [*await follow_ups.after(finished), *await follow_ups.at_the_end()]
        return replace(outcome, follow_ups=tuple(ended))


def _write_phrase(path: Path, phrase: LivePhrase, rate: int) -> None:
    with wave.open(str(path), "wb") as sink:
        sink.setnchannels(1)
        sink.setsampwidth(2)
        sink.setframerate(rate)
        sink.writeframes(phrase.samples.tobytes())


def _phrase_outcome(outcome: Outcome, start: float, end: float) -> PhraseOutcome:
    transcript = outcome.transcript
    if transcript is None:
        return PhraseOutcome(start, end, "no reply", error=outcome.error)
    passages = tuple(shifted(passage, start) for passage in transcript.passages)
    state: PhraseState = "done" if passages else "no words"
    return PhraseOutcome(start, end, state, passages, outcome.error)
