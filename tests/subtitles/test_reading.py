"""Reading SRT and WebVTT as they occur in the wild."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.formats.srt import read_srt, write_srt
from mantisreed.formats.vtt import read_webvtt
from mantisreed.formats.vtt_writing import write_webvtt
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.layout import lay_out
from mantisreed.transcript.document import Passage
from strategies import passages

TWO = [Cue(1.0, 2.5, ("Nets closed.",)), Cue(3.0, 4.0, ("Tea?", "Yes."))]
ITALIC = [TWO[0], Cue(3.0, 4.0, ("Tea?", "Yes."), marks=(Mark(0, 0, 4, "i"),))]


@pytest.mark.parametrize(
    "text",
    [
        "1\n00:00:01,000 --> 00:00:02,500\nNets closed.\n\n2\n00:00:03,000 --> "
        "00:00:04,000\nTea?\nYes.\n",
        "\ufeff1\r\n00:00:01,000 --> 00:00:02,500\r\nNets closed.\r\n\r\n"
        "2\r\n00:00:03,000 --> 00:00:04,000\r\nTea?\r\nYes.",
        "00:01.0 --> 00:02.5\nNets closed.\n\n\n\n00:03.000 --> 00:04.000\n<i>Tea?</i>\nYes.\n",
        "1\n0:00:01,0 --> 0:00:02,5 X1:40 X2:600\nNets "
        "closed.\n2\n0:00:03,0-->0:00:04,0\nTea?\nYes.\n",
    ],
)
def test_srt_is_read_however_it_is_written(text: str) -> None:
    assert read_srt(text).cues in (TWO, ITALIC)


def test_webvtt_is_read_with_voices_entities_and_what_stands_around_cues() -> None:
    text = (
        "WEBVTT - the hut\nKind: captions\n\nNOTE not for viewers\n\nSTYLE\n::cue { color: red "
        "}\n\n"
        "first\n00:01.000 --> 00:02.500 align:start\n<v.loud Warden &amp; co>Nets &lt;all&gt; "
        "<b>closed</b>.\n\n"
        "NOTE two\nlines\n\n01:00:03.000 --> 01:00:04.000\nTea?\n"
    )
    found = read_webvtt(text)
    assert found.cues == [
        Cue(
            1.0,
            2.5,
            ("Nets <all> closed.",),
            "Warden & co",
            marks=(Mark(0, 11, 17, "b"),),
            settings="align:start",
            name="first",
        ),
        Cue(3603.0, 3604.0, ("Tea?",)),
    ]
    assert found.head == ["NOTE not for viewers", "STYLE\n::cue { color: red }"]
    header, comment = found.remarks
    assert (header.what, header.found) == ("a line of the header was left out", "Kind: captions")
    assert (comment.what, comment.found, comment.allowed) == (
        "a comment between cues was left out",
        "two lines",
        "",
    )


@given(st.lists(passages(), max_size=3))
def test_what_is_written_is_read_back(given_passages: list[Passage]) -> None:
    cues = lay_out(given_passages)
    for cue, back in zip(cues, read_webvtt(write_webvtt(cues)).cues, strict=True):
        assert abs(back.start - cue.start) < 0.001 and abs(back.end - cue.end) < 0.001
    assert len(read_srt(write_srt(cues)).cues) == len(cues)


@given(st.text())
def test_no_text_makes_a_reader_fail(text: str) -> None:
    for cue in (*read_srt(text).cues, *read_webvtt(text).cues):
        assert cue.end >= cue.start


def test_a_number_that_is_said_is_not_the_next_cues_number() -> None:
    times = [f"00:00:0{n},000 --> 00:00:0{n + 1},000\n" for n in (1, 3, 5)]
    text = f"{times[0]}42\n\n{times[1]}7\n8\n{times[2]}Tea\n"
    assert [cue.lines for cue in read_srt(text).cues] == [("42",), ("7",), ("Tea",)]
