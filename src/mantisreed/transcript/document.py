"""The transcript document and its JSON, `mantisreed-transcript` version 2.

The JSON Schema lies beside this module, in `transcript.schema.json`. All times are seconds from the
recording's start, written to the millisecond. Version 1 had neither doubts nor replacements, and is
read as well.
"""

import math
import re
from collections.abc import Iterable
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from mantisreed.errors import InputError

if TYPE_CHECKING:
    import pandas

SCHEMA = Path(__file__).with_name("transcript.schema.json")

FORMAT = "mantisreed-transcript"
VERSION = 2  # of the format; a reader knows its own and those before

NO_SPEECH = "no speech"
"""The note of a transcript that is empty because nobody spoke, not because something failed."""

Timing = Literal["engine", "aligned", "estimated"]


class Word(msgspec.Struct, frozen=True):
    """One word with its times in seconds; `confidence` is 0 to 1, None when the engine does not
    say.
    """

    text: str
    start: float
    end: float
    confidence: float | None = None


class Passage(msgspec.Struct, frozen=True):
    """A run of words by one speaker with no long pause.

    Attributes:
        start, end: seconds.
        text: as it is read, with punctuation.
        speaker: a label; None when nobody told speakers apart.
        timing: where the words' times come from: the engine, an alignment, or an estimate.
        words: in order of time; may be empty when only the passage is timed.
        alternatives: other readings of the whole passage that the engine thought of, the likeliest
            first.
    """

    start: float
    end: float
    text: str
    speaker: str | None = None
    timing: Timing = "engine"
    words: tuple[Word, ...] = ()
    alternatives: tuple[str, ...] = ()


class SoundEvent(msgspec.Struct, frozen=True):
    """A sound that is no speech, such as a door, with its times in seconds."""

    text: str
    start: float
    end: float


class Doubt(msgspec.Struct, frozen=True):
    """A stretch of a transcript that somebody should listen to.

    Attributes:
        kind: what may be wrong, as `review.doubts.KINDS` has it.
        start, end: seconds.
        why: in words; it quotes nothing of the text.
        grade: how sure it is that something is wrong, 0 to 1.
    """

    kind: str
    start: float
    end: float
    why: str
    grade: float


WORTH_HEARING = 0.3
"""The least grade of a doubt that is counted and shown; lower ones are only for the record."""


class Replacement(msgspec.Struct, frozen=True):
    """A stretch that was doubtful and now has the reading of a second opinion.

    Attributes:
        start, end: seconds.
        before, after: the text that stood there, and the one that does now.
        engine: the name of the card that gave it.
        why: by which rule it was taken.
    """

    start: float
    end: float
    before: str
    after: str
    engine: str
    why: str


class RecordingFacts(msgspec.Struct, frozen=True):
    """Which recording this is.

    Attributes:
        name: of its file.
        digest: of its bytes.
        duration: seconds.
        about: what else was said of it where it came from, by name, such as its title; left out
            where nothing was.
        track: which track of sound it is, from 1; left out for the default one.
    """

    name: str
    digest: str
    duration: float
    about: dict[str, str] | msgspec.UnsetType = msgspec.UNSET
    track: int | msgspec.UnsetType = msgspec.UNSET

    @property
    def track_number(self) -> int | None:
        """The number of the track; None for the default one."""
        if self.track is msgspec.UNSET:
            return None
        return self.track


class Transcript(msgspec.Struct, frozen=True, kw_only=True):
    """The timed result of a job.

    Attributes:
        recording: what was transcribed.
        language: a language tag; None when neither the user nor the engine said.
        engine: the name of the engine card.
        job: the address of the work: the same recording, engine and options give the same one.
        speakers: the labels that passages use, in order of appearance.
        passages: in order of time.
        events: sounds that are no speech, where the engine tells them apart.
        notes: what a reader should know about how this came to be.
        doubts: what somebody should listen to, by time.
        replacements: what a second opinion changed, by time.
    """

    recording: RecordingFacts
    engine: str
    job: str
    language: str | None = None
    speakers: tuple[str, ...] = ()
    passages: tuple[Passage, ...] = ()
    events: tuple[SoundEvent, ...] = ()
    notes: tuple[str, ...] = ()
    doubts: tuple[Doubt, ...] = ()
    replacements: tuple[Replacement, ...] = ()

    @property
    def words(self) -> tuple[Word, ...]:
        """All words, passage by passage."""
        return tuple(chain.from_iterable(passage.words for passage in self.passages))

    def to_pandas(self) -> "pandas.DataFrame":
        """A table with a row for each word.

        Its columns are `start` and `end` in seconds, `text`, `confidence` (0 to 1), `speaker` and
        `passage`, the number of the passage from 0. A passage without timed words is one row.

        Raises:
            InputError: pandas is not installed.
        """
        try:
            import pandas
        except ImportError as error:
            raise InputError(
                "pandas is not installed", advice="python -m pip install pandas"
            ) from error
        rows = []
        for number, passage in enumerate(self.passages):
            rows.extend(
                [
                    (word.start, word.end, word.text, word.confidence, passage.speaker, number)
                    for word in (passage.words or (Word(passage.text, passage.start, passage.end),))
                ]
            )
        return pandas.DataFrame(
            rows, columns=["start", "end", "text", "confidence", "speaker", "passage"]
        )

    @property
    def doubts_worth_hearing(self) -> tuple[Doubt, ...]:
        """Those that are counted and shown."""
        return tuple(doubt for doubt in self.doubts if doubt.grade >= WORTH_HEARING)

    @property
    def mean_confidence(self) -> float | None:
        """Over the words that have one; None when none has."""
        known = [word.confidence for word in self.words if word.confidence is not None]
        return math.fsum(known) / len(known) if known else None


def speakers_of(passages: Iterable[Passage]) -> tuple[str, ...]:
    """The labels that passages use, in order of appearance."""
    return tuple(
        dict.fromkeys(passage.speaker for passage in passages if passage.speaker is not None)
    )


class _Document(Transcript, frozen=True, kw_only=True):
    format: Literal["mantisreed-transcript"]
    version: int


LATEST = 10_000_000.0
"""Seconds, four months: what a file says beyond that is no time in a recording."""


def to_json(transcript: Transcript) -> bytes:
    """The document, indented, times to the millisecond, with a line feed at the end."""
    fields = msgspec.to_builtins(transcript)
    document = _rounded({"format": FORMAT, "version": VERSION, **fields})
    try:
        encoded = msgspec.json.encode(document)
    except UnicodeEncodeError:
        encoded = msgspec.json.encode(_whole(document))
    return msgspec.json.format(encoded, indent=1) + b"\n"


def from_json(content: bytes) -> Transcript:
    """Read a document back.

    Raises:
        InputError: it is not a transcript, or one of a newer version.
    """
    try:
        document = msgspec.json.decode(content, type=_Document)
    except (msgspec.MsgspecError, RecursionError) as error:
        raise InputError(f"this is not a transcript document ({error})") from error
    if document.version > VERSION:
        raise InputError(
            f"this transcript is of version {document.version}; versions up to {VERSION} can be "
            "read",
            advice="install a newer mantisreed",
        )
    spans = [(passage.start, passage.end) for passage in document.passages]
    spans += [(word.start, word.end) for word in document.words]
    spans += [(event.start, event.end) for event in document.events]
    spans += [(doubt.start, doubt.end) for doubt in document.doubts]
    spans += [(replacement.start, replacement.end) for replacement in document.replacements]
    if not all(0.0 <= start <= end <= LATEST for start, end in spans):
        raise InputError(
            "this transcript has times that are none: an end before its start, or months of them",
        )
    return Transcript(**{name: getattr(document, name) for name in Transcript.__struct_fields__})


def _rounded(value: object) -> object:
    if isinstance(value, float):
        return round(value, 3)
    if isinstance(value, dict):
        return {key: _rounded(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return list(map(_rounded, value))
    return value


def _whole(value: object) -> object:
    """The same without halves of characters, which no encoding has."""
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, dict):
        return {_whole(key): _whole(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return list(map(_whole, value))
    return value


_NUMBERED = re.compile(r"(.*?)([0-9]+)")
_SEPARATORS = re.compile(r"[;\n]")


def with_speaker_names(passages: tuple[Passage, ...], names: str) -> tuple[Passage, ...]:
    """The passages with people's names instead of labels.

    Labels that are numbered, such as those of channels, take the names in the order of their
    numbers, others in the order in which they appear. Labels for which there is no name stay.

    Args:
        passages: in order of time.
        names: with semicolons between.
    """
    labels = list(speakers_of(passages))
    numbers = list(map(_NUMBERED.fullmatch, labels))
    if all(numbers) and len({found[1] for found in numbers if found}) == 1:
        labels = [
            found[0] for found in sorted(filter(None, numbers), key=lambda found: int(found[2]))
        ]
    called = dict(zip(labels, filter(None, map(str.strip, _SEPARATORS.split(names))), strict=False))
    return tuple(
        msgspec.structs.replace(passage, speaker=called.get(passage.speaker or "", passage.speaker))
        for passage in passages
    )
