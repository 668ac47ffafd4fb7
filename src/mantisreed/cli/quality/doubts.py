"""`mantisreed doubts`: what somebody should listen to in a transcript."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from mantisreed.cli.console import Console
from mantisreed.files import printable
from mantisreed.review.doubts import disagreements, doubts_of, in_order, text_at, worth_hearing
from mantisreed.transcript.document import Doubt, Transcript
from mantisreed.units import clock, count_of, counts_of
from mantisreed.workbench.exporting import read_script, speech_of_transcript
from mantisreed.workbench.pairing import check_same_recordings


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `doubts` is asked for; its arguments tell the same."""

    transcript: str
    recording: str | None = None
    against: Sequence[str] = ()
    min_grade: float = 0.3
    as_json: bool = False


def run(console: Console, asked: Arguments) -> int:
    """List the doubts by time."""
    path = Path(asked.transcript)
    document = read_script(path).as_transcript(path.stem)
    others = [read_script(Path(other)).as_transcript(Path(other).stem) for other in asked.against]
    found = _doubts(console, asked, document)
    console.notes(
        check_same_recordings(
            [(asked.transcript, document), *zip(asked.against, others, strict=True)]
        )
    )
    for other in others:
        found += disagreements(document, other)
    doubts = worth_hearing(in_order(found), asked.min_grade)
    words = document.words
    texts = [text_at(words, doubt.start, doubt.end) for doubt in doubts]
    if asked.as_json:
        listed = list(map(_described, doubts, texts))
        console.document({"transcript": printable(asked.transcript), "doubts": listed})
        return 0
    if doubts:
        rows = [
            (clock(doubt.start), doubt.kind, f"{doubt.grade:.2f}", doubt.why, text[:60])
            for doubt, text in zip(doubts, texts, strict=True)
        ]
        console.rows(("start", "kind", ">grade", "why", "text"), rows)
    console.result(f"{printable(asked.transcript)}: {_counted(doubts)}")
    if asked.recording is None and not document.recording.digest:
        console.note("note: --recording FILE also finds text over silence and speech without text")
    return 0


def _doubts(console: Console, asked: Arguments, document: Transcript) -> list[Doubt]:
    """Of the transcript alone, or of it and the recording."""
    if asked.recording is None:
        # What the transcript came with was found with the recording at hand.
        return list(document.doubts) or doubts_of(document)
    # These cannot be found again from the text and the sound.
    kept = [doubt for doubt in document.doubts if doubt.kind in ("seam", "disagreement")]
    speech, notes = speech_of_transcript(document, Path(asked.recording))
    console.notes(notes)
    return [*doubts_of(document, speech), *kept]


def _described(doubt: Doubt, text: str) -> dict[str, object]:
    return {
        "kind": doubt.kind,
        "start": round(doubt.start, 3),
        "end": round(doubt.end, 3),
        "why": doubt.why,
        "grade": doubt.grade,
        "text": text,
    }


def _counted(doubts: Sequence[Doubt]) -> str:
    if not doubts:
        return "no doubts"
    return f"{count_of(len(doubts), 'doubt')}: {counts_of(doubt.kind for doubt in doubts)}"
