"""WebVTT beyond times and text: settings, regions, styles, voices, and what the standard does not
allow.
"""

import re

import pytest

from mantisreed.formats.vtt import read_webvtt
from mantisreed.formats.vtt_writing import write_webvtt
from mantisreed.subtitles.cues import Cue, Mark, Turn
from mantisreed.subtitles.voices import single_voices
from mantisreed.transcript.document import Word

WHOLE = """WEBVTT

STYLE
::cue(.loud) { color: lime }

REGION
id:mud
width:40%
regionanchor:0%,100%
scroll:up

first
00:00:01.000 --> 00:00:02.000 region:mud align:left
<c.loud>The <i>tide</i></c> &amp; the mud

00:00:03.000 --> 00:00:04.000 line:0 position:10%,line-left size:35%
<v Ada><lang de>Guten <ruby>潮<rt>うしお</rt></ruby></lang> morning
"""


def test_styles_regions_settings_and_marks_are_written_as_they_were_read() -> None:
    found = read_webvtt(WHOLE)
    assert found.remarks == []
    assert write_webvtt(found.cues, head=found.head) == WHOLE
    assert found.cues[0].marks == (Mark(0, 0, 8, "c.loud"), Mark(0, 4, 8, "i"))
    assert found.cues[1].lines == ("Guten 潮うしお morning",) and found.cues[1].speaker == "Ada"


def test_several_voices_of_a_cue_are_lines_of_their_own() -> None:
    found = read_webvtt(
        "WEBVTT\n\n00:01.000 --> 00:03.000\n<v Ada>Any <b>tern</b>?</v>\n<v Ben>No. <i>None</i>.\n"
    )
    marks = (Mark(0, 4, 8, "b"), Mark(1, 4, 8, "i"))
    turns = (Turn("Ada", 0), Turn("Ben", 0))
    lines = ("Any tern?", "No. None.")
    assert found.cues == [Cue(1.0, 3.0, lines, "Ada", marks=marks, turns=turns)]
    assert single_voices(found.cues) == [
        Cue(1.0, 3.0, ("Any tern?",), "Ada", marks=(Mark(0, 4, 8, "b"),)),
        Cue(1.0, 3.0, ("No. None.",), "Ben", marks=(Mark(0, 4, 8, "i"),)),
    ]


def test_times_inside_cues_are_read_beside_marks_and_written_again() -> None:
    text = (
        "WEBVTT\n\n00:00:01.000 --> 00:00:04.000\n<i>Any "
        "<00:00:02.000><c>tern</c></i>\n<00:00:03.000><c>today?</c>\n"
    )
    (cue,) = read_webvtt(text).cues
    assert cue.words == (Word("Any", 1.0, 2.0), Word("tern", 2.0, 3.0), Word("today?", 3.0, 4.0))
    assert write_webvtt([cue], inner_times=True) == text and {m.tag for m in cue.marks} == {"i"}
    # Without elements around the words, nothing in a page can show how far the speaker is.
    bare = re.sub("</?c>", "", text)
    assert write_webvtt(read_webvtt(bare).cues, inner_times=True) == text


@pytest.mark.parametrize(
    ("text", "what", "found", "line"),
    [
        ("WEBVTT\nKind: captions\n\n", "a line of the header was left out", "Kind: captions", 2),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000 line:up\nTern\n",
            "a cue's setting makes no sense",
            "line:up",
            3,
        ),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000 size:101%\nTern\n",
            "a cue's setting makes no sense",
            "size:101%",
            3,
        ),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000 region:a\nTern\n",
            "a cue names a region that is not there",
            "region:a",
            3,
        ),
        ("WEBVTT\n\nREGION\nwidth:40%\n", "a region without a name was left out", "width:40%", 3),
        (
            "WEBVTT\n\n00:01.000 --> 00:01.000\nTern\n",
            "a cue does not end after it begins",
            "00:01.000 --> 00:01.000",
            3,
        ),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000\nTern & auk\n",
            "an ampersand is not escaped",
            "Tern & auk",
            3,
        ),
        ("WEBVTT\n\n00:01.000 --> 00:02.000\n<i>Tern\n", "a tag is not closed", "<i>", 3),
        ("WEBVTT\n\n00:01.000 --> 00:02.000\nTern</i>\n", "an end tag has no beginning", "</i>", 3),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000\n<blink>Tern\n",
            "a tag is not known and was left out",
            "<blink>",
            3,
        ),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000\n<b><i>Tern</b></i>\n",
            "tags end in another order than they begin",
            "</b>",
            3,
        ),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000\nTern <00:05.000>auk\n",
            "a time inside a cue is out of order",
            "00:05.000",
            3,
        ),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000\nTern\n2\n00:03.000 --> 00:04.000\nAuk\n",
            "no blank line stands before a cue",
            "2",
            5,
        ),
        (
            "WEBVTT\n\n00:01.000 --> 00:02.000\nTern\n\nSTYLE\n::cue {}\n",
            "styles or a region stand behind the first cue",
            "STYLE",
            6,
        ),
    ],
)
def test_what_the_standard_does_not_allow_is_found_where_it_stands(
    text: str, what: str, found: str, line: int
) -> None:
    read = read_webvtt(text)
    remark = next(remark for remark in read.remarks if remark.what == what)
    assert (remark.found, remark.line) == (found, line) and remark.allowed
    assert [cue.text for cue in read.cues if "Tern" in cue.text or "Auk" in cue.text] == [
        cue.text for cue in read.cues
    ]
