"""The engine card: what a TOML table may say about a speech-to-text engine. `docs/engine-cards.md`
and the pages beside it are its manual.

How an engine is spoken to is in `cards/card.py`; here is what only speech-to-text has. What the
types cannot see is in `card_checks.py`.
"""

from collections.abc import Mapping
from decimal import Decimal
from functools import cached_property
from typing import Annotated, Literal

import msgspec

from mantisreed.cards.card import ServiceCard
from mantisreed.cards.paths import Condition, ReplyPath, Take
from mantisreed.cards.sequence import StepSequence
from mantisreed.cards.steps import StateValue, Step, Table
from mantisreed.cards.tables import Bytes, Seconds
from mantisreed.cards.templates import DocumentTemplate, Template
from mantisreed.engines.card_values import ConfidenceScale, Pattern
from mantisreed.engines.reading.times import SECONDS, TimeUnit

ReplyFormat = Literal[
    "json", "lines", "events", "xml", "text", "srt", "vtt", "ttml", "csv", "msgpack", "cbor", "ctm"
]


class Accepts(Table, frozen=True, kw_only=True):
    """`[engine.NAME.accepts]`: what the engine takes in one request.

    Attributes:
        formats: audio formats, the one to try first in front.
        format_names: what the engine calls them, for `{format}`, where it differs.
        sample_rate: samples per second to send; the default is what speech engines work at.
        max_bytes: size of one request's audio at most; None for no limit known.
        max_duration: seconds of audio in one request at most; an hour where nothing is said, so
            that no piece grows without bound.
        languages: the tags it knows, or a table from tags to what it calls them; empty when any may
            be asked for.
        cut_when_late: whether a piece is cut smaller that the engine twice did not answer in time.
    """

    formats: tuple[str, ...] = ("flac", "wav", "opus", "mp3")
    format_names: dict[str, str] = {}  # noqa: RUF012 - msgspec copies it
    sample_rate: Annotated[int, msgspec.Meta(ge=1000, le=768_000)] = 16_000
    max_bytes: Bytes | None = None
    max_duration: Seconds = Seconds(3600)
    languages: tuple[str, ...] | dict[str, str] = ()
    cut_when_late: bool = True

    @property
    def language_names(self) -> Mapping[str, str]:
        """From each tag to what the engine calls it."""
        if isinstance(self.languages, dict):
            return self.languages
        return {tag: tag for tag in self.languages}


class Price(Table, frozen=True, kw_only=True):
    """`[engine.NAME.price]`: money per minute of audio, billed in steps of `billing_step`
    seconds.
    """

    per_minute: Decimal
    currency: str = ""
    billing_step: Seconds = Seconds(1)


class RateLimit(Table, frozen=True, kw_only=True):
    """`[engine.NAME.rate_limit]`: how many `requests` the engine takes in any `window` of
    seconds.
    """

    requests: Annotated[int, msgspec.Meta(ge=1)]
    window: Seconds = Seconds(60)


class Billed(Table, frozen=True, kw_only=True):
    """`[engine.NAME.billed]`: where the engine says what it charges, in any answer from the one
    that starts the work.

    Attributes:
        seconds: of audio.
        cost: money, in the price's currency.
        times: the unit of the seconds.
    """

    seconds: Take | None = None
    cost: Take | None = None
    times: TimeUnit = SECONDS


class BatchedJobs(Table, frozen=True, kw_only=True):
    """`[engine.NAME.batch]`: several pieces in one job of the engine.

    Steps before `step` are made for each piece, that one and what follows once for all of them;
    they have `{manifest}`, a list with an `item` for each piece, and the reply holds a result for
    each.

    Attributes:
        step: the name of the first step that is made once.
        item: what stands in the manifest for a piece; `{piece_key}` tells it from the others.
        size: pieces in one job at most.
        wait: seconds that a piece waits for others at most.
        results: where the list of results is in the reply; each document of one with lines is a
            result by itself.
        key: where the piece's key is in each result.
        reply: where its reply is in the result; None for the result itself.
        failed_when: a condition on a result that says that this piece failed.
        reason: where it says why.
    """

    step: str
    item: DocumentTemplate
    key: ReplyPath
    size: Annotated[int, msgspec.Meta(ge=1, le=10_000)] = 50
    wait: Seconds = Seconds(1)
    results: ReplyPath | None = None
    reply: ReplyPath | None = None
    failed_when: Condition | None = None
    reason: ReplyPath | None = None


class Callback(Table, frozen=True, kw_only=True):
    """`[engine.NAME.callback]`: the engine calls the address `{callback}` when a job has ended.

    Attributes:
        secret: template of the secret with which it signs, after Standard Webhooks (`whsec_` and
            base64); without it only the address itself, which nobody can guess, tells the engine's
            calls from others.
        brings: `news`: it says that something has happened, and the job is asked for; `reply`: it
            is the reply.
    """

    secret: Template | None = None
    brings: Literal["news", "reply"] = "news"


class TokenMarks(Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.words.tokens]`: words come in parts; one of these keys says how they are
    put together.

    Attributes:
        begin_mark: stands at the beginning of a part that begins a word; a blank for parts such as
            `" wa"`, `"ter"`.
        continue_mark: stands at the beginning of a part that goes on with a word, such as `##`.
        end_mark: stands at the end of a part that ends a word.
        more_mark: stands at the end of a part whose word goes on, such as `@@`.
        begins, continues: where each part says that it begins a word, or goes on with one.
    """

    begin_mark: str | None = None
    continue_mark: str | None = None
    end_mark: str | None = None
    more_mark: str | None = None
    begins: ReplyPath | None = None
    continues: ReplyPath | None = None


class TimePaths(Table, frozen=True, kw_only=True):
    """Where something begins and ends: by `start` and `end`, `start` and `length`, or one of them
    alone.

    With `length` alone each item begins where the one before ended, with `start` alone it ends
    where the next begins. `times` is the unit of all of them, `length_times` that of lengths, where
    it is another one.
    """

    start: ReplyPath | None = None
    end: ReplyPath | None = None
    length: ReplyPath | None = None
    times: TimeUnit | None = None
    length_times: TimeUnit | None = None

    @property
    def has_times(self) -> bool:
        """Whether it says anything of times."""
        return any(path is not None for path in (self.start, self.end, self.length))


class WordPaths(TimePaths, frozen=True, kw_only=True):
    r"""`[engine.NAME.reply.words]`: where words are.

    With `[...reply.passages]` they are looked up in each passage, otherwise in the whole reply. A
    word without letters and without a time is punctuation and joins the word before it.

    Attributes:
        each: the list of words; None where the other paths give lists of the same length, side by
            side.
        text, confidence, speaker: in each word.
        text_from, text_to, text_length: in place of `text`, where in the passage's text, or in the
            whole one, it begins, and where it ends or how long it is: in characters, from 0.
        times: the unit of its times, where it is not that of the whole reply.
        zero: what times count from.
        kind: where the kind of an item is: a word, punctuation, something that is no speech.
        punctuation, events: kinds that are punctuation, and that are no speech.
        ignored: kinds that are left out.
        event_pattern: texts that are no speech, such as `\\[.*\\]`.
        tokens: how parts of words are put together.
    """

    each: ReplyPath | None = None
    text: ReplyPath | None = None
    text_from: ReplyPath | None = None
    text_to: ReplyPath | None = None
    text_length: ReplyPath | None = None
    confidence: ReplyPath | None = None
    speaker: ReplyPath | None = None
    zero: Literal["piece", "passage"] = "piece"
    kind: ReplyPath | None = None
    punctuation: tuple[StateValue, ...] = ()
    events: tuple[StateValue, ...] = ()
    ignored: tuple[StateValue, ...] = ()
    event_pattern: Pattern | None = None
    tokens: TokenMarks | None = None


class PassagePaths(TimePaths, frozen=True, kw_only=True):
    """`[engine.NAME.reply.passages]`: where passages are.

    Attributes:
        each: the list of passages.
        text: in each; None where their words say it.
        speaker: in each.
        alternatives: a list of other readings.
        confidence: of the whole passage, for words that have none of their own.
    """

    each: ReplyPath
    text: ReplyPath | None = None
    speaker: ReplyPath | None = None
    alternatives: ReplyPath | None = None
    confidence: ReplyPath | None = None


class TurnPaths(TimePaths, frozen=True, kw_only=True):
    """`[engine.NAME.reply.turns]`: who spoke when, apart from the words; they are laid over
    them.
    """

    each: ReplyPath
    speaker: ReplyPath


class TrackPaths(Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.tracks]`: the reply has a part of its own for each track, and each
    speaker a track. `passages` and `words` are looked up in each part, and merged by time.

    Attributes:
        each: the list of parts.
        speaker: in each; None where that is its place among all of them, from 0.
    """

    each: ReplyPath
    speaker: ReplyPath | None = None


class SpeakerNames(Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.speakers]`: a list that says what speakers are called.

    Attributes:
        each: the list.
        id: what words and passages call a speaker; None where that is its place in the list, from
            0.
        name: what people do.
    """

    each: ReplyPath
    id: ReplyPath | None = None
    name: ReplyPath


_ENCODINGS = ("base64", "text")


class Layer:
    """Where a reply stands inside another document, as a text: a path, after `base64:` where it is
    encoded so.
    """

    __slots__ = ("encoding", "path", "source")

    def __init__(self, source: str) -> None:
        self.source = source
        encoding, colon, path = source.partition(":")
        is_said = bool(colon) and encoding in _ENCODINGS
        self.encoding = encoding if is_said else "text"
        self.path = ReplyPath(path if is_said else source)

    @classmethod
    def from_toml(cls, value: object) -> "Layer":
        """Compile what stands on a card.

        Raises:
            ValueError: it is no path.
        """
        if not isinstance(value, str) or not value:
            raise ValueError(f"expected a JMESPath expression, found {value!r}")
        return cls(value)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Layer) and other.source == self.source

    def __hash__(self) -> int:
        return hash(self.source)


class Layers:
    """One layer, or several from the outside in.

    Attributes:
        source: as it is written on the card.
        items: them.
    """

    __slots__ = ("items", "source")

    def __init__(self, source: object = ()) -> None:
        self.source = source
        self.items = tuple(
            map(Layer.from_toml, source if isinstance(source, (list, tuple)) else [source])
        )

    @classmethod
    def from_toml(cls, value: object) -> "Layers":
        """Compile what stands on a card.

        Raises:
            ValueError: it holds no path.
        """
        return cls(value)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Layers) and other.source == self.source

    def __hash__(self) -> int:
        return hash(str(self.source))


class Reply(Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply]`: what the answer is, and where things are in it.

    Attributes:
        format: `json` and `xml`; `lines` (a JSON document on each line) and `events` (server-sent
            events); `text`, `srt`, `vtt`, `ttml`, `ctm` and `csv` for such files as they are.
            Packed replies (gzip, zip) are unpacked.
        inside: where it is inside another document, as a text; several for one in another in
            another.
        file: the name of the file in a zip archive, with `*` for any text.
        text: the whole text; with `lines` and `events` the part of it that one of them brings.
        is_whole_text: each line or event brings the whole text so far, not the next part of it.
        only: a condition; of lines and events only those count for which it holds.
        event: names of the events that count.
        key: what a line or event is known by; a later one with the same takes its place.
        end_mark: a line, data or name of an event that only says that nothing more comes. An
            answer without it is incomplete.
        complete: a condition that holds for a complete answer; of lines and events, for one of
            them, also one that does not count otherwise. An incomplete answer is no reply, and is
            asked for again.
        delimiter: of CSV.
        columns: the names of CSV's columns, where no first row gives them.
        language: the language heard.
        times: the unit of all times.
        zero: with moments, where the moment is at which the recording begins.
        confidence_scale: on which scale confidences are.
        tracks, passages, words, turns, speakers: where they are; what has no times gets estimated
            ones.
    """

    format: ReplyFormat = "json"
    inside: Layers = Layers()
    file: str | None = None
    text: ReplyPath | None = None
    is_whole_text: bool = False
    only: Condition | None = None
    event: tuple[str, ...] = ()
    key: ReplyPath | None = None
    end_mark: str | None = None
    complete: Condition | None = None
    delimiter: str | None = None
    columns: tuple[str, ...] = ()
    language: ReplyPath | None = None
    times: TimeUnit = SECONDS
    zero: ReplyPath | None = None
    confidence_scale: ConfidenceScale = ConfidenceScale()
    tracks: TrackPaths | None = None
    passages: PassagePaths | None = None
    words: WordPaths | None = None
    turns: TurnPaths | None = None
    speakers: SpeakerNames | None = None

    @property
    def tells_speakers(self) -> bool:
        """Whether the card knows where speakers are in it."""
        places = (self.passages, self.words)
        return (self.turns or self.tracks) is not None or any(
            paths is not None and paths.speaker is not None for paths in places
        )


class Command(Table, frozen=True, kw_only=True):
    """`[engine.NAME.command]`: a local program instead of HTTP.

    Attributes:
        run: the program and its arguments, as templates; one that is empty is left out.
        audio: whether the audio is a file, `{audio_file}`, or comes on standard input.
        reply: whether the reply is on standard output or in a file, `{reply_file}`.
        environment: more variables, as templates; the place for secrets, since arguments can be
            seen by others.
        timeout: seconds, after which the program is stopped.
    """

    run: tuple[Template, ...]
    audio: Literal["file", "stdin"] = "file"
    reply: Literal["stdout", "file"] = "stdout"
    environment: dict[str, Template] = {}  # noqa: RUF012 - msgspec copies it
    timeout: Seconds = Seconds(3600)


class PythonObject(Table, frozen=True, kw_only=True):
    """`[engine.NAME.python]`: a Python object, by its entry point in the group
    `mantisreed.engines`, or its place.

    Attributes:
        object: the entry point's name, or `module:object`.
        timeout: seconds for one piece, after which its process is stopped.
    """

    object: str
    timeout: Seconds = Seconds(3600)


class EngineCard(ServiceCard, frozen=True, kw_only=True, dict=True):
    """`[engine.NAME]`: one engine. What is not explained here is in `ServiceCard`.

    Attributes:
        accepts: what it takes in one request.
        price: what it costs; None when that is not known.
        rate_limit: how many requests it takes in a time; None when it does not say.
        max_concurrent: how many it takes at once.
        billed: where it says what it charges.
        batch: how several pieces go into one job of its own.
        callback: how it calls back.
        reply: what its answer is.
        command, python: a program or an object instead of a service.
    """

    reply: Reply
    accepts: Accepts = Accepts()
    price: Price | None = None
    rate_limit: RateLimit | None = None
    max_concurrent: Annotated[int, msgspec.Meta(ge=1, le=10_000)] = 4
    billed: Billed = Billed()
    batch: BatchedJobs | None = None
    callback: Callback | None = None
    command: Command | None = None
    python: PythonObject | None = None

    @property
    def is_service(self) -> bool:
        """Whether it is spoken to over the network."""
        return self.command is None and self.python is None

    @cached_property
    def exchange(self) -> StepSequence:
        """The order of its steps; only for services."""
        return StepSequence(self)

    @property
    def concurrent_pieces(self) -> int:
        """How many pieces are on their way at once."""
        return self.max_concurrent * (self.batch.size if self.batch else 1)

    @property
    def asking(self) -> Step | None:
        """The step that asks for a job; None where there is none."""
        if self.is_service:
            return self.exchange.asking
        return None
