"""What leaves the process: no secret, nothing that steers a terminal, and long tables in little
time.
"""

import re
import time
from pathlib import Path

import pytest

from conftest import Command
from mantisreed.cli.console import Console, plain_table
from mantisreed.errors import InputError
from mantisreed.secrets import Secret

RAW = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f]")


def test_no_secret_and_no_escape_sequence_is_printed(capsys: pytest.CaptureFixture[str]) -> None:
    Secret("brine-and-silt-77")
    console = Console()
    said = "\x1b]0;title\x07 brine-and-silt-77 \u202egnol\r"
    console.result(said)
    console.note(said)
    console.problem(InputError(said, where=said, advice=said))
    console.bug(ValueError(said))
    printed = "".join(capsys.readouterr())
    assert (
        "brine-and" not in printed
        and not RAW.search(printed.replace("\n", ""))
        and "\u202e" not in printed
    )
    assert printed.count("***") >= 5 and "\\x1b]0;title" in printed


def test_the_log_passes_the_same_door(mantisreed: Command, tmp_path: Path) -> None:
    Secret("brine-and-silt-77")
    (tmp_path / "\x1b[31mbrine-and-silt-77.wav").write_bytes(b"no sound")
    mantisreed("inspect", "\x1b[31mbrine-and-silt-77.wav", "--log-file", "log.txt", "-v")
    logged = (tmp_path / "log.txt").read_text()
    assert "brine-and" not in logged and "\x1b" not in logged


def test_a_long_table_is_laid_out_in_no_time(capsys: pytest.CaptureFixture[str]) -> None:
    table = plain_table()
    table.add_column("cue", justify="right")
    table.add_column("text")
    for number in range(20_000):
        table.add_row(str(number), f"潮 {number}\x1b[2J")
    began = time.process_time()
    Console().table(table)
    assert time.process_time() - began < 5
    lines = capsys.readouterr().out.splitlines()
    assert len(lines) == 20_001 and lines[0] == "  cue  text"
    assert lines[8] == "    7  潮 7\\x1b[2J"


def test_what_the_tool_keeps_is_for_its_owner_alone(
    mantisreed: Command, settings: Path, tmp_path: Path
) -> None:
    (tmp_path / ".mantisreed").mkdir(mode=0o755)
    mantisreed("jobs")
    mantisreed("run", "absent.wav")
    sound = tmp_path / "still.wav"
    sound.write_bytes(b"RIFF")
    mantisreed("run", "still.wav")
    assert (tmp_path / ".mantisreed").stat().st_mode & 0o077 == 0


def test_what_comes_from_elsewhere_is_no_markup(capsys: pytest.CaptureFixture[str]) -> None:
    table = plain_table()
    table.add_column("[red]name[/]")
    table.add_column("language")
    table.add_row("[bold]talk[/bold].wav", "[link=https://x.example]en[/link]")
    table.add_row("[/]\x1b[2J", "[not closed")
    Console().table(table)
    Console().rows(["[b]x"], [["[/b]y"]])
    shown = capsys.readouterr().out
    for text in ("[red]name[/]", "[bold]talk[/bold].wav", "[link=https://x.example]en[/link]"):
        assert text in shown
    assert "[/]\\x1b[2J" in shown and "[not closed" in shown and "[/b]y" in shown
