"""From what was heard in pieces to one transcript; also long afterwards, from what the ledger keeps."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import msgspec

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.asking import reading_of
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import Answered
from mantisreed.engines.reply import Reading
from mantisreed.engines.request import Piece
from mantisreed.errors import InputError
from mantisreed.jobs.moving import Sound
from mantisreed.pipeline.orders import Made, Order, ordered
from mantisreed.transcript.document import NOTHING_HEARD, RecordingFacts, Transcript, speakers_of
from mantisreed.transcript.stitch import PieceReading, stitch_channels

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import JobRecord


@dataclass(frozen=True, slots=True)
class Heard:
    """What the engine heard in one piece.

    Attributes:
        request: the address of the piece's request.
        start, end: seconds in the recording.
        channel: from 1; None when they are mixed.
        reading: None while the reply is not there.
    """

    request: str
    start: float
    end: float
    channel: int | None
    reading: Reading | None


def transcript_of(order: Order, facts: RecordingFacts, job: str, made: Made, heard: Sequence[Heard]) -> Transcript:
    """The pieces' readings as one transcript, with the notes of the recording's preparation."""
    by_channel: dict[int | None, list[PieceReading]] = {}
    languages: Counter[str] = Counter()
    for one in sorted(heard, key=lambda one: one.channel or 0):
        assert one.reading is not None
        pieces = by_channel.setdefault(one.channel, [])
        pieces.append(PieceReading(one.start, one.end, one.reading.passages))
        languages.update([one.reading.language] if one.reading.language else ())
    stitched = stitch_channels(by_channel)
    spoken = languages.most_common(1)[0][0] if languages else None
    nothing = () if stitched.passages else (NOTHING_HEARD,)
    mended = sum(one.reading.mended for one in heard if one.reading is not None)
    poor = (f"the times of {mended} words made no sense and were made anew",) if mended else ()
    return Transcript(
        recording=facts,
        engine=order.card.name,
        job=job,
        language=order.target or _tag_for(order.card, spoken) or order.language,
        speakers=speakers_of(stitched.passages),
        passages=stitched.passages,
        notes=(*made.damage, *made.notes, *stitched.notes, *poor, *nothing),
    )


def kept_transcript(ledger: "Ledger", record: "JobRecord", order: Order) -> tuple[Transcript, Made]:
    """The transcript of a job all of whose replies are kept, and what its recording was made into.

    Raises:
        InputError: some are not, or it was sent by a version that did not note enough.
        UnreadableReplyError: a reply is not as the card says now.
        LedgerError: a kept reply is gone.
    """
    kept = ordered(record)
    if record.made is None:
        advice = "`mantisreed run` with the recording makes its outputs again from the kept replies"
        raise InputError(f"job {record.id} is not complete in the ledger", advice=advice)
    made = msgspec.json.decode(record.made, type=Made)
    pieces = {piece.request: piece for piece in ledger.listing.pieces(record.id)}
    heard = []
    for request in made.pieces:
        piece = pieces.get(request)
        if piece is None or piece.state != "done":
            raise InputError(
                f"not all of job {record.id} is answered",
                advice=f"`mantisreed collect {record.id[:8]}` takes what is ready, `retry` sends what is missing",
            )
        sound = msgspec.json.decode(piece.sound or "{}", type=Sound)
        sent = Piece(b"", FORMATS[sound.form], sound.sample_rate, sound.channels, sound.duration, sound.speech)
        reading = reading_of(order.card, Answered(ledger.reply(piece)), sent, order.secrets)
        heard.append(Heard(request, piece.start, piece.end, piece.channel, reading))
    facts = RecordingFacts(kept.name, record.digest, round(made.duration, 3))
    return transcript_of(order, facts, record.id, made, heard), made


def _tag_for(card: EngineCard, name: str | None) -> str | None:
    """The tag that the card maps to what the engine calls a language; its own word where none is."""
    return next((tag for tag, called in card.accepts.language_names.items() if called == name), name)
