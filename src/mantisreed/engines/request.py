"""What is sent to an engine, and what a card's placeholders stand for then."""

import secrets as randomness
from collections.abc import Mapping
from dataclasses import dataclass, field

from mantisreed.audio.formats import AudioFormat
from mantisreed.cards.bodies import Attachment
from mantisreed.cards.templates import Value
from mantisreed.engines.card import EngineCard
from mantisreed.errors import InputError

PLACEHOLDERS = (
    *(
        "language",
        "target",
        "format",
        "content_type",
        "sample_rate",
        "channels",
        "duration",
        "hints",
    ),
    *("request_id", "callback", "audio", "recording_url", "audio_size", "file_name", "recording"),
)
"""The placeholders that every card of a service has. `recording` stands before a dot:
`{recording.stem}`.
"""

FILES = ("audio_file", "reply_file")
"""Those of a program."""


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of a recording, encoded, ready for one request.

    Attributes:
        audio: the encoded bytes.
        form: how they are encoded.
        sample_rate, channels: of what is encoded.
        duration: seconds.
        speech: where somebody speaks, as (start, end) in seconds from the piece's start.
        link: an address where the same audio can be fetched, when there is one.
        request_id: the same whenever the same piece is sent; None makes one up.
        callback: the address at which the engine can call when it is done, when there is one.
        recording: what is known of the recording: `file_name`, `stem`, and what the file says of
            itself.
    """

    audio: bytes = field(repr=False)
    form: AudioFormat
    sample_rate: int
    channels: int
    duration: float
    speech: tuple[tuple[float, float], ...] = ()
    link: str | None = None
    request_id: str | None = None
    callback: str | None = field(default=None, repr=False)
    recording: Mapping[str, str] = field(default_factory=dict)

    @property
    def file_name(self) -> str:
        """What it is called in a form."""
        return f"piece.{self.form.extension}"


@dataclass(frozen=True, slots=True)
class RequestOptions:
    """What the user wants of the engine.

    Attributes:
        language: what the engine calls the language spoken; None lets it find out by itself.
        target: what it calls the language to answer in, for translating; None for that of the
            recording.
        hints: names and rare words to expect.
    """

    language: str | None = None
    target: str | None = None
    hints: tuple[str, ...] = ()


def piece_values(
    card: EngineCard, piece: Piece, request_options: RequestOptions
) -> dict[str, Value]:
    """What the placeholders of a card stand for when this piece is sent; without secrets, and
    without the audio.
    """
    return {
        "language": request_options.language,
        "target": request_options.target,
        "format": card.accepts.format_names.get(piece.form.name, piece.form.name),
        "content_type": piece.form.content_type_at(piece.sample_rate),
        "sample_rate": piece.sample_rate,
        "channels": piece.channels,
        "duration": round(piece.duration, 3),
        "hints": list(request_options.hints),
        "request_id": piece.request_id or randomness.token_hex(16),
        "callback": piece.callback,
        "recording_url": piece.link,
        "audio_size": len(piece.audio),
        "file_name": piece.file_name,
        **{f"recording.{name}": value for name, value in piece.recording.items()},
    }


def attachment_of(piece: Piece) -> Attachment:
    """The piece's audio, as a request carries it."""
    form = piece.form
    content_type = form.content_type_at(piece.sample_rate)
    if form.is_headerless:
        block = form.bytes_per_sample * piece.channels
    else:
        block = 1
    return Attachment(piece.audio, content_type, piece.file_name, piece.duration, block)


def wants_link(card: EngineCard) -> bool:
    """Whether the engine gets a link to the audio instead of its bytes."""
    return any("recording_url" in step.names for _, step in card.sequence)


def language_for(card: EngineCard, language: str | None) -> str | None:
    """What this engine calls a language, also when only the tag's first part is listed in its card.

    Raises:
        InputError: the card lists languages, and this is none of them.
    """
    names = card.accepts.language_names
    if language is None or not names:
        return language
    listed = {tag.lower(): name for tag, name in names.items()}
    found = listed.get(language.lower()) or listed.get(language.lower().split("-")[0])
    if found is None:
        raise InputError(
            f"engine {card.name} does not know the language {language!r}",
            advice=f"its card lists {', '.join(names)}",
        )
    return found
