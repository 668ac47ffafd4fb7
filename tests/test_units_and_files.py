"""Durations, sizes and clock times; whole files or none; names that hold anything."""

import os
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.errors import InputError, OutputError
from mantisreed.files import printable, write_whole
from mantisreed.units import (
    clock,
    moment_given,
    parse_duration,
    parse_size,
    short_duration,
    short_size,
)


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("90", 90),
        ("90 s", 90),
        ("1.5h", 5400),
        ("250ms", 0.25),
        ("10 min", 600),
        ("1:02:03.5", 3723.5),
        ("2:05", 125),
    ],
)
def test_durations_are_read(text: str, seconds: float) -> None:
    assert parse_duration(text) == seconds


@pytest.mark.parametrize("text", ["", "s", "-3 s", "4 apples", "1:2:3:4", "1:5", "nan", "1e3"])
def test_what_is_no_duration_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match="expected"):
        parse_duration(text)


@pytest.mark.parametrize(
    ("text", "count"), [("512", 512), ("16 MiB", 16 << 20), ("25MB", 25_000_000), ("1.5 KiB", 1536)]
)
def test_sizes_are_read(text: str, count: int) -> None:
    assert parse_size(text) == count


@given(st.integers(0, 360_000_000))
def test_clock_text_is_read_back_to_the_millisecond(milliseconds: int) -> None:
    assert round(parse_duration(clock(milliseconds / 1000)) * 1000) == milliseconds


def test_lengths_and_sizes_for_people() -> None:
    assert [short_duration(s) for s in (4.21, 20, 723.4, 3723)] == [
        "4.2 s",
        "0:20",
        "12:03",
        "1:02:03",
    ]
    assert [short_size(n) for n in (812, 3_500_000)] == ["812 B", "3.3 MiB"]


@given(st.binary(min_size=1, max_size=60))
def test_any_name_is_shown_on_one_printable_line(name: bytes) -> None:
    text = printable(os.fsdecode(name))
    text.encode()
    assert len(text.splitlines()) <= 1 and "\x1b" not in text and "\u202e" not in text


def test_emoji_and_letters_of_any_script_are_shown_as_they_are() -> None:
    assert printable("früh 🪶👩‍🔬 沼泽.wav") == "früh 🪶👩‍🔬 沼泽.wav"
    assert printable(os.fsdecode(b"a\nb\xff.wav")) == "a\\nb\\xff.wav"


def test_a_file_that_cannot_be_written_leaves_nothing_behind(tmp_path: Path) -> None:
    (tmp_path / "note.txt").mkdir()
    with pytest.raises(OutputError):
        write_whole(tmp_path / "note.txt", b"text")
    with pytest.raises(OutputError):
        write_whole(tmp_path / "absent" / "note.txt", b"text")
    assert list(tmp_path.iterdir()) == [tmp_path / "note.txt"]


def test_a_moment_is_a_date_or_an_age() -> None:
    assert moment_given("1970-01-02", "--since") == 86_400.0
    assert moment_given(None, "--since") is None
    for text, seconds in (("90min", 5400), ("12h", 43_200), ("7d", 604_800), ("1.5 d", 129_600)):
        found = moment_given(text, "--since")
        assert found is not None and abs(time.time() - seconds - found) < 5
    for text in ("yesterday", "2026-13-01", "d", "-", "nan d", "1e400d", "-3d", "99999d"):
        with pytest.raises(InputError, match="expected a date such as"):
            moment_given(text, "--since")
