"""Excel workbooks as tables of recordings."""

from collections.abc import Iterator
from datetime import datetime
from decimal import Decimal
from pathlib import Path

import openpyxl
import pytest
from openpyxl.styles import Font

from cli.ferry import Ferry
from conftest import Command
from mantisreed.errors import InputError
from mantisreed.sources.tables import read_table
from mantisreed.sources.workbooks import LONGEST_CELL


@pytest.fixture
def folder(tmp_path: Path, recordings: Path, ferry: Ferry) -> Iterator[Path]:
    """A workspace with two recordings, and its engine."""
    with ferry.sailing(tmp_path):
        yield tmp_path


def made(file: Path) -> None:
    workbook = openpyxl.Workbook()
    sheet = workbook.active
    assert sheet is not None
    sheet.append(["nest", "source", "language", "when", "twice"])
    sheet.append([7, "recordings/note 0.flac", "en", datetime(2026, 11, 3, 7, 30), "=A2*2"])
    sheet.append([])
    sheet.append([8, "missing.flac", "en", None, "=A4*2"])
    sheet["A1"].font = Font(bold=True)
    workbook.create_sheet("remarks")["A1"] = "low tide"
    workbook.save(file)


def cells(file: Path) -> list[tuple[object, ...]]:
    return list(openpyxl.load_workbook(file).worksheets[0].iter_rows(values_only=True))


def test_a_workbook_is_filled_in_and_gone_on_with_and_the_rest_stays(
    folder: Path, ferry: Ferry, mantisreed: Command
) -> None:
    file = folder / "calls.xlsx"
    made(file)
    ended = mantisreed("run", "calls.xlsx", "--fill")
    assert ended.returncode == 1 and "missing.flac: no such file" in ended.stderr
    heading, first, blank, second = cells(file)
    assert heading[5:] == ("text", "state", "words", "confidence", "cost", "files", "error")
    assert first[6] == "done" and first[7] == 6 and isinstance(first[9], float)
    assert second[6] == "failed" and not any(blank)
    assert first[4] == "=A2*2" and first[3] == datetime(2026, 11, 3, 7, 30)
    workbook = openpyxl.load_workbook(file)
    assert workbook.worksheets[0]["A1"].font.b and workbook["remarks"]["A1"].value == "low tide"
    (folder / "missing.flac").write_bytes((folder / "recordings" / "note 1.flac").read_bytes())
    again = mantisreed("run", "calls.xlsx", "--fill")
    assert again.returncode == 0 and "1 row has its results already" in again.stderr, again.stderr
    assert [row[6] for row in cells(file) if row[0] in (7, 8)] == ["done", "done"]
    assert mantisreed("run", "calls.xlsx").returncode == 0


def test_what_is_filled_in_is_no_formula_fits_a_cell_and_is_known_again(tmp_path: Path) -> None:
    file = tmp_path / "a.xlsx"
    made(file)
    table = read_table(file)
    long = "=" + "tide " * 10_000
    results = {"text": f"{long}\x07", "state": "done", "cost": Decimal("0.120000")}
    for _ in range(2):
        table.fill(table.sources[0], results)
        assert table.write() == [], "what was written is not taken for somebody else's"
    cell = openpyxl.load_workbook(file).worksheets[0]["F2"]
    assert cell.data_type == "s" and len(cell.value) == LONGEST_CELL and cell.value[0] == "="
    workbook = openpyxl.load_workbook(file)
    workbook.worksheets[0]["F2"] = "by hand"
    workbook.save(file)
    table.fill(table.sources[0], {**results, "text": "other"})
    (told,) = table.write()
    assert "somebody has typed into 'text'" in told
    assert openpyxl.load_workbook(file).worksheets[0]["F2"].value == "by hand"


def test_what_is_no_workbook_is_told_in_a_line(
    folder: Path, mantisreed: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    (folder / "a.xlsx").write_bytes(b"source,language\n")
    told = mantisreed("run", "a.xlsx", "--fill")
    assert told.returncode == 2 and "it is no Excel workbook, or a locked one" in told.stderr
    made(folder / "a.xlsx")
    monkeypatch.setitem(__import__("sys").modules, "openpyxl", None)
    with pytest.raises(InputError, match="not installed") as error:
        read_table(folder / "a.xlsx")
    assert "mantisreed[xlsx]" in str(error.value.advice)
