"""Times on frames: all of them, in order, with whole gaps, and no word cut off."""

from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Command
from mantisreed.subtitles.frames import exact_rate, on_frames
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.document import Passage
from strategies import passages

RATES = [23.976, 24.0, 25.0, 29.97, 30.0, 50.0, 59.94, 60.0]


@pytest.mark.parametrize(
    ("written", "meant"),
    [
        (23.976, Fraction(24000, 1001)),
        (29.97, Fraction(30000, 1001)),
        (59.94, Fraction(60000, 1001)),
        (25.0, 25),
    ],
)
def test_rates_are_those_that_are_meant(written: float, meant: Fraction | int) -> None:
    assert exact_rate(written) == meant


@given(passages(), st.sampled_from(RATES))
def test_all_times_are_on_frames_with_whole_gaps_and_no_word_cut_off(
    passage: Passage, rate: float
) -> None:
    plain = lay_out([passage], LayoutRules(gap=0.08))
    cues = lay_out([passage], LayoutRules(gap=0.08, frame_rate=rate))
    frames = exact_rate(rate)
    assert [cue.lines for cue in cues] == [cue.lines for cue in plain]
    for cue, before in zip(cues, plain, strict=True):
        for time in (cue.start, cue.end):
            assert abs(time * frames - round(time * frames)) < 1e-6
        assert abs(cue.start - before.start) <= 0.5 / frames + 1e-6 and cue.end > cue.start
    for cue, following in pairwise(cues):
        assert (
            following.start - cue.end
        ) * frames >= 2 - 1e-6 or cue.end - cue.start <= 1 / frames + 1e-6
    assert on_frames(cues, rate, 0.08) == cues


def test_frames_are_said_on_the_command_line(mantisreed: Command, tmp_path: Path) -> None:
    text = (
        "1\n00:00:01,010 --> 00:00:02,010\nNets up.\n\n2\n00:00:02,050 --> 00:00:03,333\nAll "
        "well.\n"
    )
    (tmp_path / "a.srt").write_text(text)
    refused = mantisreed("check", "a.srt", "--gap", "2f")
    assert refused.returncode == 2 and "frames need a frame rate" in refused.stderr
    assert mantisreed("check", "a.srt", "--gap", "2f", "--frame-rate", "25").returncode in (0, 1)
