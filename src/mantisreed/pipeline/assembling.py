"""From what was heard in pieces to one transcript; also long afterwards, from what the ledger
keeps.
"""

import math
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import chain, starmap
from pathlib import Path
from typing import TYPE_CHECKING, TypeAlias

import msgspec

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.asking import reading_of
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.reading.reply import ParsedReply
from mantisreed.engines.request import Piece
from mantisreed.errors import InputError
from mantisreed.jobs.replies import ReplyLostError
from mantisreed.jobs.work import SoundFacts
from mantisreed.pipeline.options import Made, TranscriptionOptions, stored_options
from mantisreed.pipeline.second_opinions.kept import with_kept_opinion
from mantisreed.review.doubts import differing_seam, seam_doubts, with_doubts
from mantisreed.secrets import Secret
from mantisreed.transcript.document import (
    NO_SPEECH,
    Doubt,
    RecordingFacts,
    SoundEvent,
    Transcript,
    speakers_of,
    with_speaker_names,
)
from mantisreed.transcript.stitch import PieceReading, Stitched, stitch_channels

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import JobRecord, PieceRecord, RequestRecord


Reader: TypeAlias = Callable[[EngineCard, EngineResponse, Piece, Mapping[str, Secret]], ParsedReply]
"""Reads one reply, as `engines.asking.reading_of` does."""

_SAME_SOUND = 0.5  # seconds between the beginnings of one sound as two overlapping pieces hear it


@dataclass(frozen=True, slots=True)
class PieceResult:
    """What the engine heard in one piece.

    Attributes:
        request: the key of the piece's request.
        start, end: seconds in the recording.
        channel: from 1; None when they are mixed.
        reading: None while the reply is not there.
    """

    request: str
    start: float
    end: float
    channel: int | None
    reading: ParsedReply | None


@dataclass(frozen=True, slots=True)
class Assembled:
    """A transcript, and what makes it doubtful.

    Attributes:
        transcript: with notes on all that is odd.
        doubts: what in the replies is not as the card says, so that the transcript may be wrong.
    """

    transcript: Transcript
    doubts: tuple[str, ...]


def transcript_of(
    options: TranscriptionOptions,
    facts: RecordingFacts,
    job: str,
    made: Made,
    results: Sequence[PieceResult],
) -> Assembled:
    """The pieces' readings as one transcript, with the notes of the recording's preparation."""
    by_channel: dict[int | None, list[PieceReading]] = {}
    # Sorting is stable, so that the pieces of a channel stay in the order of their times.
    ordered = sorted(results, key=lambda one: one.channel or 0)
    for one in ordered:
        assert one.reading is not None
        pieces = by_channel.setdefault(one.channel, [])
        pieces.append(PieceReading(one.start, one.end, one.reading.passages))
    stitched = stitch_channels(by_channel)
    readings = [one.reading for one in results if one.reading is not None]
    passages = stitched.passages
    if facts.about and "speakers" in facts.about:
        passages = with_speaker_names(passages, facts.about["speakers"])
    # A note of its own, so that an empty transcript is told from one that was lost.
    nothing = () if stitched.passages else (NO_SPEECH,)
    mended = sum(reading.mended for reading in readings)
    poor: tuple[str, ...] = ()
    if mended:
        poor = (f"the times of {mended} words made no sense and were made anew",)
    # Each once: every piece of a recording has the same oddities.
    odd = dict.fromkeys(
        chain.from_iterable((*reading.doubts, *reading.remarks) for reading in readings)
    )
    plain = Transcript(
        recording=msgspec.structs.replace(facts, track=made.track or msgspec.UNSET),
        engine=options.card.name,
        job=job,
        language=options.wanted.translate_to
        or _tag_for(options.card, _spoken_in(ordered))
        or options.wanted.language,
        speakers=speakers_of(passages),
        passages=passages,
        events=tuple(_events(results)),
        notes=(*made.damage, *made.notes, *stitched.notes, *poor, *odd, *nothing),
    )
    transcript = with_doubts(
        plain, made.speech, _seam_doubts(by_channel, stitched, made.speech or ())
    )
    return Assembled(
        transcript,
        tuple(dict.fromkeys(chain.from_iterable(reading.doubts for reading in readings))),
    )


def _spoken_in(results: Iterable[PieceResult]) -> str | None:
    """The language of a recording, of which short pieces are often taken for another one."""
    readings = [one.reading for one in results if one.reading is not None]
    languages = Counter(reading.language for reading in readings if reading.language)
    return languages.most_common(1)[0][0] if languages else None


def _seam_doubts(
    pieces: Mapping[int | None, Sequence[PieceReading]],
    stitched: Stitched,
    speech: Sequence[tuple[float, float]],
) -> Iterator[Doubt]:
    """Seams through speech, and overlaps that two pieces heard differently."""
    yield from starmap(differing_seam, stitched.differing)
    for channel, readings in pieces.items():
        spans = [(reading.start, reading.end) for reading in readings]
        # A seam of one channel is no gap because somebody speaks in another one.
        said_there = [
            one
            for one in stitched.passages
            if channel is None or one.speaker == f"channel {channel}"
        ]
        words = list(chain.from_iterable(passage.words for passage in said_there))
        yield from seam_doubts(spans, words, speech)


def _events(results: Sequence[PieceResult]) -> Iterator[SoundEvent]:
    """Sounds that are no speech, at their times in the recording; one that two pieces heard
    once.
    """
    heard = []
    for one in results:
        if one.reading is not None:
            heard.extend(
                [
                    SoundEvent(event.text, event.start + one.start, event.end + one.start)
                    for event in one.reading.events
                ]
            )
    latest: dict[str, float] = {}
    for event in sorted(heard, key=lambda event: event.start):
        if event.start - latest.get(event.text, -math.inf) > _SAME_SOUND:
            yield event
        # Also of one that was left out: a row of close ones is one long sound.
        latest[event.text] = event.start


@dataclass(frozen=True, slots=True)
class KeptReplies:
    """All replies of a job, as the ledger has them.

    Attributes:
        record: of the job.
        made: what its recording was made into.
        pieces: in order, each with its reply.
    """

    record: "JobRecord"
    made: Made
    pieces: "tuple[tuple[PieceRecord, EngineResponse], ...]"


def kept_replies(ledger: "Ledger", record: "JobRecord") -> KeptReplies:
    """The replies of a job that is answered.

    Raises:
        InputError: not all of it is answered, or it was sent by a version that did not note enough.
        ReplyLostError: a kept reply is gone, or was changed; from now on it is asked for again.
    """
    if record.made is None:
        advice = "`mantisreed run` with the recording makes its outputs again from the kept replies"
        raise InputError(f"job {record.id} is not complete in the ledger", advice=advice)
    made = msgspec.json.decode(record.made, type=Made)
    pieces = {piece.request.key: piece for piece in ledger.listing.pieces(record.id)}
    found = []
    # In the order of the recording, which the ledger does not keep otherwise.
    for key in made.pieces:
        piece = pieces.get(key)
        if piece is None or not piece.request.has_reply:
            raise InputError(
                f"not all of job {record.id} is answered",
                advice=f"`mantisreed collect {record.id[:8]}` takes what is ready, `retry` sends "
                "what is missing",
            )
        found.append((piece, _kept_response(ledger, piece)))
    return KeptReplies(record, made, tuple(found))


def kept_transcript(
    kept: KeptReplies, options: TranscriptionOptions, hidden: Path, read: Reader = reading_of
) -> Assembled:
    """The transcript of a job from its kept replies, read as the card says now.

    Args:
        kept: them.
        options: of the job.
        hidden: the workspace's hidden folder, where second opinions are kept.
        read: what reads each of them.

    Raises:
        UnreadableReplyError: a reply is not as the card says.
    """
    results = [
        PieceResult(
            piece.request.key,
            piece.start,
            piece.end,
            piece.channel,
            read(options.card, response, sent_piece(piece.request), options.secrets),
        )
        for piece, response in kept.pieces
    ]
    stored = stored_options(kept.record)
    duration = round(kept.made.duration, 3)
    facts = RecordingFacts(stored.name, kept.record.digest, duration, stored.about or msgspec.UNSET)
    assembled = transcript_of(options, facts, kept.record.id, kept.made, results)
    return replace(
        assembled, transcript=with_kept_opinion(hidden, assembled.transcript, kept.made.speech)
    )


def _kept_response(ledger: "Ledger", piece: "PieceRecord") -> EngineResponse:
    try:
        return EngineResponse(ledger.requests.reply(piece.request))
    except ReplyLostError:
        # Noted at once, so that the next run asks for it anew.
        ledger.requests.lose_reply(piece.request)
        raise


def sent_piece(request: "RequestRecord") -> Piece:
    """What was sent, without its sound: reading a reply needs to know the rest."""
    sound = msgspec.json.decode(request.sound or "{}", type=SoundFacts)
    return Piece(
        b"", FORMATS[sound.form], sound.sample_rate, sound.channels, sound.duration, sound.speech
    )


def _tag_for(card: EngineCard, name: str | None) -> str | None:
    """The tag that the card maps to what the engine calls a language; its own word where none
    is.
    """
    return next(
        (tag for tag, called in card.accepts.language_names.items() if called == name), name
    )
