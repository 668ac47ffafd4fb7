"""`mantisreed vote`: one transcript out of several."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from mantisreed.cli.console import Console
from mantisreed.cli.targets import write_into
from mantisreed.files import printable
from mantisreed.review.voting import Voted, voted
from mantisreed.workbench.exporting import read_script
from mantisreed.workbench.pairing import check_same_recordings


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `vote` is asked for; its arguments tell the same."""

    transcripts: Sequence[str]
    into: str
    name: str | None = None
    to: str = "json,srt"
    as_json: bool = False
    overwrite: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Align, vote, write, say how far the transcripts agree."""
    sources = list(map(Path, asked.transcripts))
    read = [read_script(source).as_transcript(source.stem) for source in sources]
    names = [printable(str(source)) for source in sources]
    console.notes(check_same_recordings(list(zip(names, read, strict=True))))
    result = voted(read)
    stem = asked.name or Path(result.transcript.recording.name or "voted").stem
    targets = write_into(
        Path(asked.into), stem, result.transcript, asked.to, sources, overwrite=asked.overwrite
    )
    if asked.as_json:
        console.document(_described(names, result, [printable(str(target)) for target in targets]))
        return 0
    for target in targets:
        console.result(printable(str(target)))
    console.rows(
        (
            "transcript",
            ">right",
            ">overruled words",
            *(f">agrees with {at}" for at in range(1, len(names) + 1)),
        ),
        [
            (
                f"{number + 1} {one}",
                f"{result.weights[number]:.1%}",
                str(result.overruled[number]),
                *(
                    f"{share:.1%}" if at != number else ""
                    for at, share in enumerate(result.agreement[number])
                ),
            )
            for number, one in enumerate(names)
        ],
    )
    words = len(result.transcript.words)
    if result.disputed == 1:
        places = "1 place was"
    else:
        places = f"{result.disputed} places were"
    console.result(f"{words} words; {places} not unanimous")
    return 0


def _described(names: Sequence[str], result: Voted, files: Sequence[str]) -> dict[str, object]:
    return {
        "files": list(files),
        "words": len(result.transcript.words),
        "disputed": result.disputed,
        "transcripts": [
            {
                "file": name,
                "estimated_right": result.weights[number],
                "overruled_words": result.overruled[number],
                "agreement": result.agreement[number],
            }
            for number, name in enumerate(names)
        ],
    }
