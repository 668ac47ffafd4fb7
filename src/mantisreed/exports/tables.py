"""Tables: CSV and TSV of words, passages or cues, and CTM as scoring tools read it."""

import csv
import io
from collections.abc import Iterator, Sequence
from itertools import chain, groupby
from typing import NamedTuple

from mantisreed.errors import InputError
from mantisreed.exports.script import Script, WriteOptions, bare_transcript
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.voices import single_voices
from mantisreed.transcript.document import LATEST, Passage, Word
from mantisreed.transcript.timing import passages_of
from mantisreed.transcript.writing import joined
from mantisreed.units import count_of, parse_duration

# Also in their wide forms, and behind a tab or line break, which spreadsheets pass over.
_FORMULA = frozenset("=+-@\t\r\n＝＋－＠")
ROWS = ("words", "passages", "cues")
# What stands in CTM for stretches in which nothing is said.
_SILENCES = frozenset(("<eps>", "<sil>", "sil"))

_COLUMNS = {
    "words": ("start", "end", "word", "confidence", "speaker", "passage"),
    "passages": ("start", "end", "speaker", "passage_text"),
    "cues": ("start", "end", "speaker", "cue_text"),
}


def write_table(script: Script, options: WriteOptions, *, delimiter: str) -> str:
    """Rows with a heading (RFC 4180 for commas). Times are seconds."""
    # Subtitles have cues and no passages; those would be guessed.
    rows = options.rows or ("passages" if script.cues is None else "cues")
    sink = io.StringIO(newline="")
    writer = csv.writer(
        sink, delimiter=delimiter, lineterminator="\r\n" if delimiter == "," else "\n"
    )
    writer.writerow(_COLUMNS[rows])
    if options.raw_cells:
        cell = _as_it_is
    else:
        cell = harmless_cell
    writer.writerows(
        [cell(_with_line_feeds(value)) if isinstance(value, str) else value for value in row]
        for row in _rows(script, options, rows)
    )
    return sink.getvalue()


def _with_line_feeds(text: str) -> str:
    """The text with one kind of line break; others end a row where the writer does not quote
    them.
    """
    if "\r" in text:
        return text.replace("\r\n", "\n").replace("\r", "\n")
    return text


def harmless_cell(text: str) -> str:
    """A text that no spreadsheet takes for a formula: an apostrophe stands before one that looks
    like it.

    What an engine heard, or what a speaker is called, is not to run anything where somebody opens
    the table.
    """
    # A negative number is no formula, and an apostrophe would make it a text.
    is_number = text[:1] in "+-" and text[1:].replace(".", "", 1).isdecimal()
    # An apostrophe that is there already gets one more, so that reading can take one away.
    if _looks_like_a_formula(text) and not is_number:
        return f"'{text}"
    return text


def _looks_like_a_formula(text: str) -> bool:
    # So that what is read again is what was written, however many stand there.
    bare = text.lstrip("'")
    return bare[:1] in _FORMULA or bare.lstrip()[:1] in _FORMULA


def _as_it_is(text: str) -> str:
    return text


def _as_it_was(text: str) -> str:
    if text[:1] == "'" and _looks_like_a_formula(text):
        return text[1:]
    return text


def _lines_of(reader: "csv.DictReader[str]") -> Iterator[dict[str, str]]:
    try:
        yield from reader
    except (
        csv.Error
    ) as error:  # such as a field of more than 128 KiB, which is no text of one passage
        raise InputError(
            f"the table cannot be read ({error})", advice=f"see row {reader.line_num}"
        ) from error


def read_table(text: str, *, delimiter: str) -> Script:
    """What `write_table` writes; columns may stand in any order, and others may be there too.

    Raises:
        InputError: it has not the columns that are needed.
    """
    head = text.partition("\n")[0]
    # What spreadsheets write where a comma stands in numbers.
    if delimiter == "," and ";" in head and "," not in head:
        delimiter = ";"
    reader = csv.DictReader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        names = list(reader.fieldnames or ())
    except csv.Error as error:
        raise InputError(f"the table cannot be read ({error})") from error
    reader.fieldnames = _own_names(names)
    columns = set(reader.fieldnames)
    # Each kind of rows has its own column of texts, by which a table says what it is.
    # Others call it `text`, and mean what is seen at a time.
    said = next((name for name in ("word", "cue_text", "text") if name in columns), "passage_text")
    if missing := {"start", "end", said} - columns:
        raise InputError(
            f"the table has no column {sorted(missing)[0]!r}", advice=f"it has {', '.join(names)}"
        )
    rows, notes = _timed_rows(reader)
    if notes and not rows:
        raise InputError(
            "no row of the table has times that can be read",
            advice="times are seconds, or 00:01:02.5",
        )
    if said in ("cue_text", "text"):
        return Script(cues=tuple(map(_cue_of, rows)), notes=tuple(notes))
    if said == "passage_text":
        return _script(list(map(_passage_of_row, rows)), notes)
    return _script(_passages_of_words(rows), notes)


_NAMES_OF_OTHERS = {
    "start": ("start time", "begin", "begin time", "in", "time in", "timecode in", "from"),
    "end": ("end time", "stop", "out", "time out", "timecode out", "to", "until"),
    "text": ("transcript", "subtitle", "subtitles", "caption", "captions", "sentence", "dialogue"),
    "speaker": ("speaker name", "character", "who"),
}


def _own_names(names: Sequence[str]) -> list[str]:
    """The columns of a table by our names, where others have called them something else: `Start
    Time`, `end_time`, `Begin (s)`.
    """
    plain = [name.partition("(")[0].replace("_", " ").strip().lower() for name in names]
    own = []
    for name, simple in zip(names, plain, strict=True):
        meant = next((one for one, others in _NAMES_OF_OTHERS.items() if simple in others), simple)
        # A table that has our own name for something means nothing else by another one.
        is_free = meant in _NAMES_OF_OTHERS and meant not in names and meant not in own
        own.append(meant if is_free else name)
    return own


class _TimedRow(NamedTuple):
    """A row of a table: seconds, and its cells by the names of their columns."""

    start: float
    end: float
    cells: dict[str, str]

    @property
    def speaker(self) -> str | None:
        """Who speaks, as far as the table says."""
        return self.cells.get("speaker") or None


def _timed_rows(reader: "csv.DictReader[str]") -> tuple[list[_TimedRow], list[str]]:
    """The rows that have times, and notes about those that have none."""
    rows, notes = [], []
    for line in _lines_of(reader):
        # A short row has None in the columns that it lacks, a long one a list behind the last.
        cells = {key: _as_it_was(cell) for key, cell in line.items() if isinstance(cell, str)}
        try:
            start, end = (_time_in(cells[name]) for name in ("start", "end"))
        except (KeyError, ValueError):
            notes.append(f"row {reader.line_num} has no times and was left out")
        else:
            rows.append(_TimedRow(start, end, cells))
    return rows, notes


def _cue_of(row: _TimedRow) -> Cue:
    text = row.cells.get("cue_text", row.cells.get("text", ""))
    lines = tuple(text.split("\n"))
    return Cue(row.start, max(row.start, row.end), lines, row.speaker)


def _passage_of_row(row: _TimedRow) -> Passage:
    text = row.cells.get("passage_text", "")
    return Passage(row.start, max(row.start, row.end), text, row.speaker, "estimated")


def _passages_of_words(rows: Sequence[_TimedRow]) -> list[Passage]:
    """Words that stand one after the other with the same passage and speaker belong together."""
    made = []
    grouped = groupby(rows, key=lambda row: (row.cells.get("passage"), row.speaker))
    for (_, speaker), group in grouped:
        words = []
        for row in group:
            confidence = _number(row.cells.get("confidence"))
            words.append(Word(row.cells.get("word", ""), row.start, row.end, confidence))
        made.append(_passage_of(tuple(words), speaker))
    return made


def write_ctm(script: Script, name: str) -> str:
    """A line for each word: recording, channel, start, length, word, confidence."""
    # Blanks part the columns.
    source = "".join(name.split()) or "recording"
    lines = []
    for word in chain.from_iterable(passage.words for passage in script.passages):
        if not word.text:
            continue
        # CTM has no negative lengths, which engines may give.
        length = max(0.0, word.end - word.start)
        line = f"{source} 1 {word.start:.3f} {length:.3f} {word.text.replace(' ', '_')}"
        if word.confidence is not None:
            line += f" {word.confidence:.3f}"
        lines.append(f"{line}\n")
    return "".join(lines)


def read_ctm(text: str) -> Script:
    """Words with their times; a passage ends where there is a pause, or another channel."""
    words, notes, silences = [], [], 0
    for number, line in enumerate(text.split("\n"), 1):
        parts = line.split()
        if not parts or line.startswith(";;"):
            continue
        if parts[4:] and parts[4].lower() in _SILENCES:
            silences += 1
            continue
        try:
            start, length = _seconds(parts[2]), _seconds(parts[3])
            words.append(
                Word(
                    parts[4],
                    start,
                    round(start + length, 3),
                    _number(parts[5] if parts[5:] else None),
                )
            )
        except (IndexError, ValueError):
            notes.append(f"line {number} is not as CTM has it and was left out")
    if silences:
        notes.append(f"{count_of(silences, 'line')} of silence left out")
    return _script(list(passages_of(words)), notes)


def _rows(script: Script, options: WriteOptions, rows: str) -> Iterator[Sequence[object]]:
    if rows == "cues":
        for cue in single_voices(script.laid_out(options.rules, mark_speakers=False)):
            yield _time(cue.start), _time(cue.end), cue.speaker or "", "\n".join(cue.lines)
        return
    for number, passage in enumerate(script.passages, 1):
        if rows == "passages":
            yield _time(passage.start), _time(passage.end), passage.speaker or "", passage.text
            continue
        for word in passage.words:
            if word.confidence is None:
                confidence = ""
            else:
                confidence = f"{word.confidence:.3f}"
            yield (
                _time(word.start),
                _time(word.end),
                word.text,
                confidence,
                passage.speaker or "",
                number,
            )


def _script(passages: Sequence[Passage], notes: Sequence[str]) -> Script:
    return Script(bare_transcript(passages), notes=tuple(notes))


def _passage_of(words: tuple[Word, ...], speaker: str | None) -> Passage:
    end = max(word.end for word in words)
    return Passage(
        words[0].start, end, joined(word.text for word in words), speaker, "engine", words
    )


def _time(seconds: float) -> str:
    return f"{seconds:.3f}"


def _time_in(cell: str) -> float:
    """A time of a table: seconds, or as others write it: `00:01:02,5`, `2.5 s`."""
    plain = cell.strip().replace(",", ".")
    if ":" in plain or plain.endswith("s"):
        return _seconds(str(parse_duration(plain)))
    return _seconds(plain)


def _seconds(text: str) -> float:
    seconds = float(text)
    # Also refuses what is no number at all: comparisons with NaN are false.
    if not 0.0 <= seconds <= LATEST:
        raise ValueError("no time of a recording")
    return seconds


def _number(text: str | None) -> float | None:
    try:
        if text:
            return float(text)
        return None
    except ValueError:
        return None
