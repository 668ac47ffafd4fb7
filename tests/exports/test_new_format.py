"""A format is one row: whatever has to know of it knows it by that."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Command
from mantisreed.exports.formats import OUTPUT_FORMATS, OutputFormat, format_of, media_types
from mantisreed.exports.script import Script
from mantisreed.subtitles.cues import Cue


def _read(text: str) -> Script:
    rows = [line.split("|", 2) for line in text.splitlines()]
    return Script(
        cues=tuple(Cue(float(start), float(end), (said,), said) for start, end, said in rows)
    )


@pytest.fixture
def reeds() -> Iterator[OutputFormat]:
    form = OutputFormat(
        "reeds",
        ".reeds",
        lambda script, options, name: "".join(
            f"{cue.start}|{cue.end}|{' '.join(cue.lines)}\n"
            for cue in script.laid_out(options.rules, mark_speakers=False)
        ),
        _read,
        media_type="text/x-reeds",
        other_suffixes=(".sedges",),
    )
    OUTPUT_FORMATS[form.name] = form
    yield form
    del OUTPUT_FORMATS[form.name]


def test_a_new_format_is_read_written_and_described_by_its_row(
    reeds: OutputFormat, mantisreed: Command, tmp_path: Path
) -> None:
    (tmp_path / "talk.srt").write_text("1\n00:00:01,000 --> 00:00:02,000\n<b>two terns</b>\n\n")
    there = mantisreed("convert", "talk.srt", "talk.reeds")
    assert there.returncode == 0, there.stderr
    assert "dropped: bold (cue 1)" in there.stderr
    assert (tmp_path / "talk.reeds").read_text() == "1.0|2.0|two terns\n"
    back = mantisreed("convert", "talk.reeds", "back.vtt")
    assert back.returncode == 0 and "two terns" in (tmp_path / "back.vtt").read_text()
    assert mantisreed("convert", "talk.srt", "--to", "reeds", "--into", "out").returncode == 0
    assert (tmp_path / "out" / "talk.reeds").is_file()
    assert format_of(Path("old.sedges")) is reeds
    assert media_types()["text/x-reeds"] == "reeds"
    unknown = mantisreed("convert", "talk.srt", "talk.pdf")
    assert ".reeds" in unknown.stderr
