"""Tables of recordings: a row for each, with what is known of it, and room for what becomes of it.

CSV, TSV, JSON lines and Excel workbooks are read. Results are filled into the same table, which
appears whole or not at all; columns that are not ours keep their values.
"""

import csv
import io
import json
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mantisreed.errors import InputError, reason_of
from mantisreed.exports.tables import harmless_cell
from mantisreed.files import FileState, printable, write_whole
from mantisreed.sources.recordings import Facts, Source, named_recording
from mantisreed.sources.workbooks import fitting, read_workbook

RESULTS = ("text", "state", "words", "confidence", "cost", "files", "error")
"""Columns that `fill` writes."""

DONE = frozenset(("done", "no speech"))
"""States of rows for which nothing is left to do."""

_COLUMN = "source"
_LARGEST = 256 * 1024 * 1024  # bytes of a table
_DELIMITERS = ",;\t|"
_CHECKED_FACTS = ("language", "engine", "channels", "hints")


@dataclass(slots=True)
class Row:
    """One row.

    Attributes:
        values: by column, as they stand in the table.
        source: the recording that it names; with a problem where it names none.
        results: what is to stand in its own columns, and is not written yet.
    """

    values: dict[str, Any]
    source: Source
    results: Mapping[str, Any] | None = None

    @property
    def is_done(self) -> bool:
        """Whether its results are there, or known."""
        return (self.results or self.values).get("state") in DONE

    @property
    def known_by(self) -> tuple[str, Facts]:
        """What tells its recording from others."""
        return self.source.key, self.source.facts

    def take(self, now: "Row") -> list[str]:
        """Take over a row of the file as it is now, and put the results into it.

        Returns:
            The columns in which somebody has typed something else meanwhile; that stays.
        """
        # Ours are what was there at first and what we put there. What somebody types never becomes
        # ours, however often the file is read meanwhile.
        ours = {name: self.values.get(name) for name in RESULTS}
        typed = []
        for name, result in (self.results or {}).items():
            known = {_text_of(ours[name]), _text_of(result)}
            if _text_of(now.values.get(name)) in known:
                now.values[name] = ours[name] = result
            else:
                typed.append(name)
        self.values, self.results = now.values | ours, None
        return typed


@dataclass(slots=True)
class RecordingTable:
    """A table of recordings in a file.

    Attributes:
        file: where it is.
        columns: their names, in order.
        rows: in order.
    """

    file: Path
    columns: list[str]
    rows: list[Row]
    _write: "Callable[[RecordingTable], bytes]"
    _content: bytes
    _named_by: str
    _fitting: Callable[[Any], Any] = lambda value: value
    _by_source: dict[tuple[str, Facts], list[Row]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for row in self.rows:
            self._by_source.setdefault(row.known_by, []).append(row)

    @property
    def sources(self) -> list[Source]:
        """The recordings of all rows, in order."""
        return [row.source for row in self.rows]

    @property
    def missing(self) -> list[Source]:
        """Those of rows whose results are not there yet."""
        return [row.source for row in self.rows if not row.is_done]

    def check_for_filling(self) -> None:
        """See that results have a place.

        Raises:
            InputError: a column of that name holds something else.
        """
        if "state" in self.columns:
            return  # they were filled in before
        taken = [
            name
            for name in RESULTS
            if any(row.values.get(name) not in (None, "") for row in self.rows)
        ]
        if taken:
            raise InputError(
                f"the column {taken[0]!r} holds something already, where results are to go",
                where=printable(self.file),
                advice="give that column another name",
            )

    def fill(self, source: Source, results: Mapping[str, Any]) -> None:
        """Put results into the rows of a recording; the file is not written yet."""
        for row in self._by_source.get((source.key, source.facts), ()):
            row.results = {name: self._fitting(results.get(name)) for name in RESULTS}

    def write(self) -> list[str]:
        """Put the results into the file as it is now; what somebody has typed meanwhile stays.

        Returns:
            Where something else stands now than a result, each a sentence; rows that are gone.

        Raises:
            InputError: the file is no such table any more; nothing was changed.
            OutputError: it cannot be written; the old one is still there.
        """
        while True:
            now, state = self._as_it_is()
            conflicts = self._put_into(now)
            content = now._write(now)
            if state is not None and _state_of(self.file) != state:
                continue  # somebody has saved it at this moment
            write_whole(self.file, content)
            self.columns, self._content, self._write = now.columns, content, now._write
            return conflicts

    def _as_it_is(self) -> "tuple[RecordingTable, FileState | None]":
        """The table as the file is now, and what the system says of that; as we know it where the
        file is gone.
        """
        state = _state_of(self.file)
        if state is None:
            return _table_of(self.file, self._content, self._named_by), None
        return read_table(self.file, self._named_by), state

    def _put_into(self, now: "RecordingTable") -> list[str]:
        """Put all results into a table as it is now; gives where they have no place."""
        now.columns += [name for name in RESULTS if name not in now.columns]
        conflicts = []
        places = {known_by: iter(rows) for known_by, rows in now._by_source.items()}
        for number, row in enumerate(self.rows, 1):
            place = next(places.get(row.known_by, iter(())), None)
            if place is None:
                if row.results is not None:
                    conflicts.append(f"row {number} is gone, or names another recording now")
                row.results = None
                continue
            typed = row.take(place)
            if typed:
                names = ", ".join(map(repr, typed))
                conflicts.append(f"row {number}: somebody has typed into {names}, which stays")
        return conflicts


def read_table(file: Path, column: str | None = None) -> RecordingTable:
    """The table in a file.

    Args:
        file: its ending says what it is: `.csv`, `.tsv`, `.jsonl`, `.ndjson` or `.xlsx`.
        column: which column names the recordings; None is `source`.

    Raises:
        InputError: it cannot be read, or has no such column, or no rows.
    """
    where = printable(file)
    try:
        if file.stat().st_size > _LARGEST:
            raise InputError("this table is too large", where=where)
        content = file.read_bytes()
    except OSError as error:
        raise InputError(f"this table cannot be read ({reason_of(error)})", where=where) from error
    return _table_of(file, content, column)


def _table_of(file: Path, content: bytes, column: str | None) -> RecordingTable:
    """The table that a file holds; see `read_table`."""
    where = printable(file)
    is_workbook = file.suffix.lower() == ".xlsx"
    try:
        if is_workbook:
            columns, rows, write = _read_sheet(content)
        else:
            columns, rows, write = _read_text(file, content)
    except ValueError as error:
        raise InputError(f"this table cannot be read ({error})", where=where) from error
    chosen, found = rows_named_by(where, columns, rows, column, file.parent)
    table = RecordingTable(file, columns, found, write, content, chosen)
    if is_workbook:
        table._fitting = fitting
    return table


def rows_named_by(
    where: str,
    columns: Sequence[str],
    rows: Sequence[dict[str, Any]],
    column: str | None,
    folder: Path,
) -> tuple[str, list[Row]]:
    """The column that names the recordings, and the rows with them.

    Args:
        where: the table, for messages.
        columns: their names.
        rows: the values of each.
        column: the one that is asked for; None for the usual one.
        folder: that relative paths start in.

    Raises:
        InputError: there is no such column, or no row.
    """
    chosen = column or _COLUMN
    if chosen not in columns:
        known = ", ".join(columns[:20]) or "none"
        advice = f"--column NAME says which one does; it has: {printable(known)}"
        raise InputError(f"no column {chosen!r} names the recordings", where=where, advice=advice)
    if not rows:
        raise InputError("this table has no rows", where=where)
    return chosen, [Row(row, _source_of(row, chosen, folder)) for row in rows]


def _read_text(file: Path, content: bytes) -> "Read":
    """The table in a file of text.

    Raises:
        ValueError: it holds none.
        InputError: it is not in UTF-8.
    """
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(
            "this table is not in UTF-8", where=printable(file), advice="save it as CSV in UTF-8"
        ) from error
    ending = file.suffix.lower()
    if ending in (".jsonl", ".ndjson"):
        return _read_lines(text)
    is_marked = content.startswith(b"\xef\xbb\xbf")
    return _read_cells(text, is_tabs=ending == ".tsv", is_marked=is_marked)


def _read_sheet(content: bytes) -> "Read":
    columns, rows, fill = read_workbook(content, RESULTS)

    def write(table: RecordingTable) -> bytes:
        return fill(table.columns, [row.values for row in table.rows])

    return columns, rows, write


def _state_of(file: Path) -> FileState | None:
    """What the system says of a file; None where it is gone."""
    try:
        return FileState.of(file)
    except FileNotFoundError:
        return None


def _text_of(value: Any) -> str:
    """A value as a cell has it."""
    return _cell(RESULTS[0], value)


Read = tuple[list[str], list[dict[str, Any]], Callable[[RecordingTable], bytes]]


def _read_cells(text: str, *, is_tabs: bool, is_marked: bool) -> Read:
    heading = text.partition("\n")[0]
    delimiter = "\t" if is_tabs else max(_DELIMITERS, key=heading.count)
    try:
        found = list(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter))
    except csv.Error as error:
        raise ValueError(str(error)) from error
    columns = [name.strip() for name in found[0]] if found else []
    if len(set(columns)) < len(columns):
        raise ValueError("two columns have the same name")
    # Cells behind the last column have no name, and stay as they are.
    rows = [dict(zip(columns, row, strict=False)) | {"": row[len(columns) :]} for row in found[1:]]
    ending = "\r\n" if "\r\n" in text else "\n"

    def write(table: RecordingTable) -> bytes:
        sink = io.StringIO(newline="")
        writer = csv.writer(sink, delimiter=delimiter, lineterminator=ending)
        writer.writerow(table.columns)
        for row in table.rows:
            writer.writerow(
                [
                    *(_cell(name, row.values.get(name)) for name in table.columns),
                    *row.values.get("", ()),
                ]
            )
        return (b"\xef\xbb\xbf" if is_marked else b"") + sink.getvalue().encode("utf-8", "replace")

    return columns, rows, write


def _cell(name: str, value: Any) -> str:
    text = "" if value is None else str(value)
    # What we put in is not to run anything where the table is opened; what was there before is its
    # owner's.
    if name in RESULTS:
        return harmless_cell(text.replace("\r", "\n"))
    return text


def _read_lines(text: str) -> Read:
    columns: dict[str, None] = {}
    rows = []
    for number, line in enumerate(text.split("\n"), 1):
        if not line.strip():
            continue
        try:
            row = json.loads(line)
        except (ValueError, RecursionError):
            raise ValueError(f"line {number} is not JSON") from None
        if not isinstance(row, dict):
            raise ValueError(f"line {number} is no JSON object")
        columns |= dict.fromkeys(row)
        rows.append(row)

    def write(table: RecordingTable) -> bytes:
        lines = (json.dumps(row.values, ensure_ascii=False, default=str) for row in table.rows)
        return "".join(f"{line}\n" for line in lines).encode("utf-8", "backslashreplace")

    return list(columns), rows, write


def _source_of(row: Mapping[str, Any], column: str, folder: Path) -> Source:
    named = row.get(column)
    said = named.strip() if isinstance(named, str) else ""
    facts, wrong = _facts_of(row)
    about = _about(row, column)
    if not said or "\0" in said:
        return Source(
            Path("row"),
            problem=f"a row has nothing in its column {column!r}",
            facts=facts,
            about=about,
        )
    source = named_recording(said, folder)
    problem = source.problem or wrong
    return Source(source.path, source.link, problem, facts, about)


def _about(row: Mapping[str, Any], column: str) -> tuple[tuple[str, str], ...]:
    """What a row says besides: all columns that are neither the recording, nor a fact that counts,
    nor a result.
    """
    ours = {column, "", *_CHECKED_FACTS, *RESULTS}
    said = {name: _as_text(value) for name, value in row.items() if name not in ours}
    return tuple((name, value) for name, value in said.items() if value)


def _as_text(value: Any) -> str:
    """A value as it goes along: lists with semicolons between; nothing for tables, which go
    nowhere.
    """
    if isinstance(value, list):
        return "; ".join(filter(None, map(_as_text, value)))
    if isinstance(value, (str, int, float)):
        return str(value)
    return ""


def _facts_of(row: Mapping[str, Any]) -> tuple[Facts, str | None]:
    """What a row says of its recording, and what is wrong with that."""
    said: dict[str, Any] = {}
    for name in _CHECKED_FACTS:
        value = row.get(name)
        if value in (None, "", []):
            continue
        if name == "hints":
            parts = value if isinstance(value, list) else re.split(r"[;\n]", str(value))
            said[name] = tuple(str(part).strip() for part in parts if str(part).strip())
        elif isinstance(value, (str, int)):
            said[name] = str(value).strip()
        else:
            return Facts(), f"its column {name!r} holds no text"
    return Facts(**said), None
