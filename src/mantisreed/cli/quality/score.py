"""`mantisreed score`: transcripts against a reference."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from mantisreed.cli.console import Console
from mantisreed.errors import InputError
from mantisreed.exports.formats import format_of
from mantisreed.exports.script import bare_transcript
from mantisreed.files import printable, write_whole
from mantisreed.review.normalising import SETS
from mantisreed.review.reports import (
    alignment_lines,
    alignment_page,
    described_score,
    described_times,
    draw_scores,
)
from mantisreed.review.scoring import Score, scored, tokens_of
from mantisreed.transcript.document import Passage, Transcript
from mantisreed.units import clock, count_of
from mantisreed.workbench.exporting import read_paragraphs, read_script
from mantisreed.workbench.pairing import check_same_recordings


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `score` is asked for; its arguments tell the same."""

    reference: str
    transcripts: Sequence[str]
    language: str | None = None
    count: str = ""
    limit: int = 3
    alignment: bool = False
    html: str | None = None
    plot: str | None = None
    as_json: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Align, count, show."""
    if asked.html is not None and len(asked.transcripts) > 1:
        raise InputError(
            "a page shows one transcript", where="--html", advice="name one transcript"
        )
    scores = _scores(console, asked, _counted(asked.count))
    if asked.plot is not None:
        draw_scores(scores, Path(asked.plot))
    if asked.html is not None:
        write_whole(Path(asked.html), alignment_page(scores[0][1], scores[0][0]).encode())
    if asked.as_json:
        described = [{"file": name, **described_score(score)} for name, score in scores]
        console.document({"reference": printable(asked.reference), "scores": described})
        return 0
    _show_table([_row_of(name, score) for name, score in scores], console)
    for name, score in scores:
        _show(console, name, score, asked.limit)
        if asked.alignment:
            for line in alignment_lines(score.steps):
                console.result(line)
    return 0


def _counted(given: str) -> list[str]:
    """What is counted although nobody hears it, by its names.

    Raises:
        InputError: one of them is none.
    """
    names = [name.strip() for name in given.split(",") if name.strip()]
    for name in names:
        if name not in SETS:
            advice = f"one of {', '.join(SETS)}"
            raise InputError(f"nothing is called {name!r}", where="--count", advice=advice)
    return names


def _show_table(rows: Sequence[tuple[str, ...]], console: Console) -> None:
    # Without speakers or times there is nothing in their columns.
    columns = list(zip(_HEADINGS, *rows, strict=True))
    filled = [column for column in columns if any(column[1:])]
    headings, *shown = zip(*filled, strict=True)
    console.rows(headings, shown)


def _scores(console: Console, asked: Arguments, without: Sequence[str]) -> list[tuple[str, Score]]:
    """The score of each transcript, with its name; what is odd is told.

    Raises:
        InputError: a file is no transcript, or the reference has no words.
    """
    true = read_reference(asked.reference)
    tongue = asked.language or true.language
    said = tokens_of(true, without, tongue)
    read = list(map(read_reference, asked.transcripts))
    names = list(map(printable, asked.transcripts))
    pairs = zip(names, read, strict=True)
    console.notes(check_same_recordings([(printable(asked.reference), true), *pairs]))
    scores = []
    for name, heard in zip(names, read, strict=True):
        if _is_other_language(heard.language, true.language):
            console.note(
                f"note: {name} is in {heard.language}, and the reference in {true.language}"
            )
        try:
            score = scored(said, tokens_of(heard, without, tongue or heard.language))
        except InputError as error:
            error.where = error.where or printable(asked.reference)
            raise
        if score.is_doubtful:
            console.note(
                f"note: {name} has hardly a word of the reference: is it the same recording?"
            )
        scores.append((name, score))
    return scores


def _is_other_language(one: str | None, other: str | None) -> bool:
    """Whether two tags are known and of different languages, whatever their regions."""
    if not one or not other:
        return False
    return one.split("-")[0] != other.split("-")[0]


_HEADINGS = (
    "transcript",
    ">words",
    ">WER",
    ">CER",
    ">sub",
    ">del",
    ">ins",
    ">WER by speaker",
    ">start error",
)


def _row_of(name: str, score: Score) -> tuple[str, ...]:
    times = described_times(score.time_errors)
    return (
        name,
        str(score.words.length),
        f"{score.words.rate:.2%}",
        f"{score.characters.rate:.2%}",
        str(score.words.substitutions),
        str(score.words.deletions),
        str(score.words.insertions),
        "" if score.permuted is None else f"{score.permuted.rate:.2%}",
        f"{times['mean_seconds']:.3f} s" if times else "",
    )


def _show(console: Console, name: str, score: Score, worst: int) -> None:
    if score.confusions:
        pairs = ", ".join(
            f"{said} -> {heard} ({times})" for said, heard, times in score.confusions[:6]
        )
        console.result(f"{name}: most confused: {pairs}")
    for one in score.worst[:worst]:
        told = count_of(one.errors, "error")
        if one.start is not None:
            told = f"{clock(one.start)[:8]} {told}"
        console.result(f"{name}: {told}")
        console.result(f"  said   {_shortened(one.said)}")
        console.result(f"  heard  {_shortened(one.heard)}")


def _shortened(text: str) -> str:
    if len(text) <= 140:
        return text
    return f"{text[:139]}…"


def read_reference(name: str) -> Transcript:
    """A transcript, subtitles, or a text as one: a passage for each of its lines.

    Raises:
        InputError: it cannot be read.
    """
    path = Path(name)
    if format_of(path).name != "txt":
        return read_script(path).as_transcript(path.stem)
    return bare_transcript(
        [Passage(0.0, 0.0, line) for line in read_paragraphs(path)], name=path.stem
    )
