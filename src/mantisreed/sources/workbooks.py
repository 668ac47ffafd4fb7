"""Tables of recordings in Excel workbooks: the first sheet, whose first row has the names of the
columns. What is filled in goes into its own cells; all others, with their formats, stay.
"""

import io
import zipfile
from collections.abc import Callable, Iterator, Mapping
from datetime import date, datetime, time
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from mantisreed.extras import MissingExtraError, from_extra

if TYPE_CHECKING:
    from openpyxl.workbook import Workbook

LONGEST_CELL = 32_767
"""Characters of a cell; Excel's limit."""

_LARGEST = 1 << 30  # bytes of a workbook when it is unpacked

ROW_NUMBER = ""
"""Under this name a row's values hold where it stands."""

FilledRow = Mapping[str, Any]
Write = Callable[[list[str], list[FilledRow]], bytes]
"""Gives the workbook with the values of some columns in some rows."""


def read_workbook(
    content: bytes, results: tuple[str, ...]
) -> tuple[list[str], list[dict[str, Any]], Write]:
    """The columns and rows of a workbook, and what fills results in.

    Args:
        content: of the file.
        results: columns that are filled in; no other cell is touched.

    Raises:
        ValueError: it cannot be read.
        InputError: what reads workbooks is not installed.
    """
    workbook = _opened(content)
    sheet = workbook.worksheets[0]
    heading = [_text(cell.value) for cell in sheet[1]] if sheet.max_row else []
    while heading and not heading[-1]:
        heading.pop()
    if len(set(heading)) < len(heading):
        raise ValueError("two columns have the same name")
    rows = []
    width = len(heading)
    for number, cells in enumerate(sheet.iter_rows(min_row=2, max_col=width), 2):
        values = [_readable(cell.value) for cell in cells]
        if any(value not in (None, "") for value in values):
            rows.append({**dict(zip(heading, values, strict=True)), ROW_NUMBER: number})

    def write(columns: list[str], filled: list[FilledRow]) -> bytes:
        places = {name: place for place, name in enumerate(columns, 1) if name in results}
        for name, place in places.items():
            if place > width:
                sheet.cell(1, place).value = name
        for row in filled:
            for name, place in places.items():
                _put(sheet.cell(row[ROW_NUMBER], place), row.get(name))
        sink = io.BytesIO()
        workbook.save(sink)
        return sink.getvalue()

    return heading, rows, write


def fitting(value: Any) -> Any:
    """A value as a cell can hold it and give it back."""
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, str):
        text = "".join(_without_controls(value))
        if len(text) > LONGEST_CELL:
            return f"{text[: LONGEST_CELL - 1]}…"
        return text
    return value


def _without_controls(text: str) -> Iterator[str]:
    return (character for character in text if character >= " " or character in "\t\n")


def _opened(content: bytes) -> "Workbook":
    try:
        with from_extra("xlsx", "what reads Excel workbooks"):
            import openpyxl
    except MissingExtraError as error:
        error.advice = f"{error.advice}, or save the table as CSV"
        raise
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            if sum(member.file_size for member in archive.infolist()) > _LARGEST:
                raise ValueError("it is too large once unpacked")
        return openpyxl.load_workbook(io.BytesIO(content))
    except (zipfile.BadZipFile, KeyError, AttributeError, TypeError, OSError) as error:
        raise ValueError("it is no Excel workbook, or a locked one") from error


def _text(value: Any) -> str:
    return "" if value is None else str(value).strip()


def _readable(value: Any) -> Any:
    """A value of a cell as tables of text have it."""
    if isinstance(value, (datetime, date, time)):
        return value.isoformat()
    if isinstance(value, float) and value.is_integer():
        return int(value)
    return value


def _put(cell: Any, value: Any) -> None:
    cell.value = value
    if isinstance(value, str):
        # A text that begins with = is no formula: what an engine says runs nothing.
        cell.data_type = "s"
