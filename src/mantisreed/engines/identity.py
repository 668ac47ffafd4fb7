"""What a request and a job are known by: what reaches the engine, and nothing else.

Waits, limits, prices, error patterns, how a reply is read: none of these reach the engine, so that
changing them never makes a request another one. Secrets reach it and do not count either: a new key
is not a new question. Nor do names of files: they change nothing in what is heard.
"""

from collections.abc import Mapping
from typing import Any

import msgspec

from mantisreed.audio.formats import FORMATS
from mantisreed.cards.bodies import Attachment
from mantisreed.cards.rendering import digest_of_request, rendered_steps, symbol, with_symbols
from mantisreed.cards.requests import values_of_card
from mantisreed.cards.templates import Value
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import FILES, Piece, RequestOptions, piece_values

# In a job they may differ from piece to piece.
_OF_THE_SOUND = ("format", "content_type")
_NUMBERS_OF_THE_SOUND = ("sample_rate", "channels", "duration")
_SYMBOLIC = ("recording_url", "file_name", "piece_key", "manifest")
"""What differs each time a request is sent, or stands for the sound, which is described by
itself.
"""

_OF_CHUNKS = ("chunk_number", "chunk_count", "chunk_start", "chunk_end")
_OF_PAGES = ("page_token", "page_offset", "page_number")

# For what is asked, whatever the sound is.
_NO_SOUND = Piece(b"", FORMATS["flac"], 0, 0, 0.0)
_SYMBOLIC_AUDIO = Attachment(b"{audio}", "{content_type}", "{file_name}")


class SoundIdentity(msgspec.Struct, frozen=True):
    """Which sound is sent, by where it comes from.

    Attributes:
        digest: of the recording's bytes.
        track, channel: from 1; None takes the default track, or a mix of all channels.
        start, end: seconds in the recording.
        form, bit_rate, sample_rate: how it is encoded.
    """

    digest: str
    track: int | None
    channel: int | None
    start: float
    end: float
    form: str
    bit_rate: int | None
    sample_rate: int


def request_key(
    card: EngineCard, options: RequestOptions, piece: Piece, sound: SoundIdentity
) -> str:
    """What a request is known by.

    Args:
        card: of the engine.
        options: language and hints.
        piece: what is sent; of it only what the card's templates tell the engine.
        sound: where it comes from, to the microsecond.
    """
    # The size follows from the sound; encoders of two versions may differ by a few bytes.
    values = {**piece_values(card, piece, options), "audio_size": 0}
    # To the microsecond: sums of times differ in their last digits.
    rounded = msgspec.structs.replace(sound, start=round(sound.start, 6), end=round(sound.end, 6))
    return digest_of_request([_rendered(card, values), msgspec.to_builtins(rounded)])


def asked_of(card: EngineCard, options: RequestOptions) -> Any:
    """All that an engine is asked, whatever the sound is.

    Args:
        card: of the engine.
        options: language and hints.
    """
    symbols = {name: symbol(name) for name in _OF_THE_SOUND} | dict.fromkeys(
        _NUMBERS_OF_THE_SOUND, 0
    )
    values = {**piece_values(card, _NO_SOUND, options), **symbols}
    return _rendered(card, values)


def job_key(asked: Any, recording: str, user_options: object) -> str:
    """What a job is known by: the recording's digest, what the engine is asked, and how the user
    wants it cut.

    Args:
        asked: see `asked_of`.
        recording: its digest.
        user_options: anything that can be encoded; how the recording is prepared.
    """
    return digest_of_request([asked, recording, user_options])[:16]


def _rendered(card: EngineCard, values: Mapping[str, Value]) -> Any:
    """Whom it is told, and all that the engine is told, with symbols in place of secrets and of
    what differs each time.
    """
    told = _told(card, values)
    # Without a name, whoever has the key: two keys of one account get the same text.
    if card.account is None:
        return told
    return ["account", card.account, told]


def _told(card: EngineCard, values: Mapping[str, Value]) -> Any:
    known = with_symbols(card, {**values, **{name: symbol(name) for name in _SYMBOLIC}})
    known |= {name: symbol(name) for name in values if name.startswith("recording.")}
    known |= dict.fromkeys((*_OF_CHUNKS, *_OF_PAGES), 0)
    known |= {"chunk": b"{audio}", "audio": b"{audio}"}
    known |= values_of_card(card, known)
    # A program is told by its arguments and its environment; where its files lie says nothing.
    if card.command is not None:
        files = {**known, **{name: symbol(name) for name in FILES}}
        environment = {
            name: template.text(known) for name, template in card.command.environment.items()
        }
        return ["program", [template.text(files) for template in card.command.run], environment]
    if card.python is not None:
        return [
            "object",
            card.python.object,
            {name: known.get(name) for name in ("language", "target", "hints")},
        ]
    if card.batch is None:
        item = None
    else:
        item = card.batch.item.document(known)
    return [*rendered_steps(card, known, _SYMBOLIC_AUDIO), *([] if item is None else [item])]
