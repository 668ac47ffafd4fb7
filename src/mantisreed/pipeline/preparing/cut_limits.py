"""How long pieces may be, by what a user wants and an engine takes."""

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Literal, TypeAlias

import msgspec

from mantisreed.audio.cuts import (
    LONG_SILENCE,
)
from mantisreed.audio.formats import FORMATS, AudioFormat
from mantisreed.engines.card import Accepts, EngineCard
from mantisreed.errors import InputError, TooBigError
from mantisreed.units import duration_given, short_size

GOOD_PIECE = 600.0
"""Seconds; what has to be cut is cut into pieces of at most this, so that the first leave soon and
many at once.
"""

LEAST_PIECE = 5.0  # seconds; what is too big even then is refused

_SHORTEST_OVERLAP = 1.0  # seconds; shorter ones hold no whole word

_FAIR_PIECE = 60.0  # seconds; a format that only fits less is passed over for a smaller one

_HEADER = 1000  # bytes of a container's header at most

_LOSSY_SHARE = 1.1  # of what the bit rate says: containers and variable rates

_LEAST_BIT_RATE = {"opus": 12_000, "webm": 12_000, "mp3": 24_000}

Channels: TypeAlias = Literal["mix", "apart"] | int
"""Which channels are sent: all as one, each alone, or only the one with this number, from 1."""

Speech: TypeAlias = tuple[tuple[float, float], ...]
"""Where somebody speaks, (start, end) in seconds."""


def channels_named(given: str, where: str) -> Channels:
    """What `mix`, `apart` or a number says.

    Raises:
        InputError: it is none of these.
    """
    if given == "mix":
        return "mix"
    if given == "apart":
        return "apart"
    if given.isdecimal() and int(given) > 0:
        return int(given)
    raise InputError(f"{given!r} is neither mix nor apart nor the number of a channel", where=where)


class PieceOptions(msgspec.Struct, frozen=True):
    """How a user wants recordings to be prepared; the ledger keeps it with each job.

    Attributes:
        track: which track of sound, from 1; None takes the default one, or the first on which
            somebody speaks.
        channels: which channels of it.
        piece_length: seconds of a piece at most, if less than the engine takes.
        overlap: seconds that all neighbouring pieces share; None lets them overlap only where there
            is no pause.
        keep_silence: send long silence as well, and recordings in which nobody seems to speak.
        untouched: keep a recording that fits into one request exactly as it is.
        spans: send these stretches only, (start, end) in seconds, in order and apart; empty for all
            of it.
    """

    track: int | None = None
    channels: Channels = "mix"
    piece_length: float | None = None
    overlap: float | None = None
    keep_silence: bool = False
    untouched: bool = False
    spans: Speech = ()


def piece_options_given(
    where: Callable[[str], str],
    *,
    track: int | None = None,
    channels: str | None = None,
    piece_length: str | None = None,
    overlap: str | None = None,
    keep_silence: bool = False,
) -> PieceOptions:
    """How recordings are to be prepared.

    Args:
        where: how an option is called, given its name here.
        track: which track of sound, from 1; None takes the default one.
        channels: `mix`, `apart`, or a number; None mixes.
        piece_length, overlap: durations as they are written.
        keep_silence: whether what is silent is sent too.

    Raises:
        InputError: one of them makes no sense.
    """
    length = duration_given(piece_length, where("piece_length"))
    if length is not None and length < LEAST_PIECE:
        raise InputError(
            f"a piece has to last {LEAST_PIECE:g} s or more", where=where("piece_length")
        )
    shared = duration_given(overlap, where("overlap"))
    if shared is not None and shared < _SHORTEST_OVERLAP:
        raise InputError(
            f"an overlap has to last {_SHORTEST_OVERLAP:g} s or more", where=where("overlap")
        )
    longest = (length or 60.0) / 4
    if shared and shared > longest:
        raise InputError(
            f"neighbouring pieces can share at most a quarter of a piece, {longest:g} s",
            where=where("overlap"),
        )
    return PieceOptions(
        track=track,
        channels=channels_named(channels or "mix", where("channels")),
        piece_length=length,
        overlap=shared,
        keep_silence=keep_silence,
    )


class CutLimits(msgspec.Struct, frozen=True):
    """By which limits a recording is cut. Cuts follow from these, the sound and the user's options
    alone.

    The ledger keeps them with each job: one that is partly answered is cut the same again, whatever
    has changed on the card.

    Attributes:
        form, bit_rate, sample_rate: how pieces are encoded.
        longest: seconds of a piece at most; None when the recording is expected to fit into one
            request.
        repeats: whether neighbouring pieces share words, so that speakers can be matched.
        long_silence: seconds of silence that are worth a request of their own on either side.
    """

    form: str
    bit_rate: int | None
    sample_rate: int
    longest: float | None
    repeats: bool
    long_silence: float

    @property
    def encoding(self) -> AudioFormat:
        """How pieces are encoded."""
        return replace(FORMATS[self.form], bit_rate=self.bit_rate)

    def fit(self, card: EngineCard, duration: float | None) -> bool:
        """Whether the engine takes what is encoded so; single pieces that are too long or too big
        are cut again.
        """
        accepts = card.accepts
        if self.longest is None and (duration or 0.0) > accepts.max_duration:
            return False  # all of it in one piece would only be made to be cut again
        return self.form in accepts.formats and self.sample_rate == accepts.sample_rate


def cut_limits(card: EngineCard, duration: float | None, options: PieceOptions) -> CutLimits:
    """By which limits a recording is cut for an engine.

    Args:
        card: of the engine.
        duration: of the recording in seconds, as its header has it; None when it does not say.
        options: of the user.

    Raises:
        TooBigError: not even a few seconds fit into one request.
    """
    form, longest = _form_and_length(card, duration, options)
    return CutLimits(
        form.name,
        form.bit_rate,
        card.accepts.sample_rate,
        None if longest is None else float(longest),
        # Speakers can only be matched by words that two pieces both hold.
        card.reply.tells_speakers,
        _worth_leaving_out(card),
    )


def _form_and_length(
    card: EngineCard, duration: float | None, options: PieceOptions
) -> tuple[AudioFormat, float | None]:
    """How pieces are encoded, and how long they may be; None when the recording fits into one
    request.

    Lossless where pieces of a fair length fit; otherwise as small as needed.
    """
    accepts, cap = card.accepts, card.accepts.max_bytes or math.inf
    longest = min(accepts.max_duration, options.piece_length or math.inf)
    first = FORMATS[accepts.formats[0]]
    if (
        duration is not None
        and duration <= longest
        and duration * _hoped_rate(accepts, first) <= cap
    ):
        return first, None
    if options.piece_length is None:
        longest = min(longest, GOOD_PIECE)
    room = max(0.0, cap - _HEADER)
    choices = [(form, min(longest, room / _rate(accepts, form))) for form in _forms(accepts)]
    fair = [choice for choice in choices if choice[1] >= min(_FAIR_PIECE, longest)]
    if fair:
        form, limit = fair[0]
    else:
        form, limit = max(choices, key=lambda choice: choice[1])
    if limit < LEAST_PIECE:
        raise hopeless(card, LEAST_PIECE)
    return form, limit


def _forms(accepts: Accepts) -> list[AudioFormat]:
    """All that the engine accepts, the best first; lossy ones at their usual bit rate and then at
    lower ones.
    """
    forms = [FORMATS[name] for name in accepts.formats]
    lower = []
    for share in (0.75, 0.5, 0.375):
        lower.extend(
            [
                replace(form, bit_rate=rate)
                for form in forms
                if form.bit_rate
                and (rate := round(form.bit_rate * share)) >= _LEAST_BIT_RATE[form.name]
            ]
        )
    return forms + lower


def _rate(accepts: Accepts, form: AudioFormat) -> float:
    """Bytes a second at most."""
    if form.bit_rate:
        return form.bit_rate / 8 * _LOSSY_SHARE
    return accepts.sample_rate * 2 * form.share_of_raw


def _hoped_rate(accepts: Accepts, form: AudioFormat) -> float:
    """Bytes a second when all is well."""
    if form.bit_rate:
        return form.bit_rate / 8
    return accepts.sample_rate * 2 * form.hoped_share


def _worth_leaving_out(card: EngineCard) -> float:
    """Seconds of silence from which two requests cost less than one that holds the silence."""
    step = float(card.price.billing_step) if card.price else 0.0
    return max(LONG_SILENCE, 2 * step)


def hopeless(card: EngineCard, seconds: float) -> TooBigError:
    """That not even so short a piece is small enough for an engine."""
    if card.accepts.max_bytes:
        cap = f"the {short_size(card.accepts.max_bytes)} "
    else:
        cap = "what "
    return TooBigError(
        f"even {seconds:.0f} s of the recording are over {cap}that it takes in one request",
        engine=card.name,
        advice="set accepts.max_bytes and accepts.formats in its card to its limits",
    )
