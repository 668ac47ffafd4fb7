"""`mantisreed doubts`: what somebody should listen to in a transcript."""

import argparse

from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from mantisreed.review.doubts import Doubt

EXAMPLES = """\
examples:
  mantisreed doubts talk.transcript.json --recording talk.mp4
  mantisreed doubts talk.srt --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `doubts` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument("transcript", metavar="TRANSCRIPT", help="a transcript or subtitles, in any format")
    parser.add_argument("--recording", metavar="FILE", help="Compare the text with the speech in this")
    parser.add_argument(
        "--least",
        type=float,
        default=0.3,
        metavar="N",
        help="Leave out doubts with a lower grade, 0 to 1 (default: 0.3)",
    )
    parser.add_argument("--json", action="store_true", dest="as_json", help="doubts as JSON on stdout")


def run(
    console: Console, *, transcript: str, recording: str | None = None, least: float = 0.3, as_json: bool = False
) -> int:
    """List the doubts by time."""
    from collections import Counter
    from pathlib import Path

    from mantisreed.files import printable
    from mantisreed.pipeline.exporting import read_script, speech_of
    from mantisreed.review.doubts import doubts_of

    path = Path(transcript)
    document = read_script(path).as_transcript(path.stem)
    speech = speech_of(Path(recording))[0] if recording is not None else None
    doubts = [doubt for doubt in doubts_of(document, speech) if doubt.grade >= least]
    if as_json:
        console.document({"transcript": printable(transcript), "doubts": [_described(doubt) for doubt in doubts]})
        return 0
    if doubts:
        console.rows(("start", "kind", ">grade", "why", "text"), [_row_of(doubt) for doubt in doubts])
    kinds = ", ".join(f"{count} {kind}" for kind, count in Counter(doubt.kind for doubt in doubts).most_common())
    count = "1 doubt" if len(doubts) == 1 else f"{len(doubts)} doubts"
    console.result(f"{printable(transcript)}: {count}: {kinds}" if doubts else f"{printable(transcript)}: no doubts")
    if recording is None:
        console.note("note: --recording FILE also finds text over silence and speech without text")
    return 0


def _row_of(doubt: "Doubt") -> tuple[str, ...]:
    from mantisreed.units import clock

    return clock(doubt.start), doubt.kind, f"{doubt.grade:.2f}", doubt.why, doubt.text[:60]


def _described(doubt: "Doubt") -> dict[str, object]:
    return {
        "kind": doubt.kind,
        "start": round(doubt.start, 3),
        "end": round(doubt.end, 3),
        "why": doubt.why,
        "grade": doubt.grade,
        "text": doubt.text,
    }
