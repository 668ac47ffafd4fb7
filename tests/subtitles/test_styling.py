"""What one format says of colours and places, another says as well; what it cannot is told."""

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from subprocess import CompletedProcess

import pytest

from mantisreed.exports.formats import OUTPUT_FORMATS, format_of_text
from mantisreed.exports.losses import losses
from mantisreed.formats.srt import read_srt, write_srt
from mantisreed.formats.styling import colour_mark
from mantisreed.formats.ttml import write_ttml
from mantisreed.formats.ttml_reading import read_ttml
from mantisreed.formats.ttml_times import TtmlClock
from mantisreed.formats.vtt import read_webvtt
from mantisreed.formats.vtt_writing import write_webvtt
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.frames import seconds_of_drop_frame
from mantisreed.subtitles.places import keypad_of_settings, settings_of_keypad

STYLED = """1
00:00:01,000 --> 00:00:02,000
{\\an8}<font color="#ff0000">Red</font> and <font color=orange>orange</font>

2
00:00:03,000 --> 00:00:04,000
{\\an1}{\\pos(10,10)}<font face="Serif">Plain</font>

"""


@pytest.mark.parametrize("form", ["srt", "vtt", "ttml", "ebuttd"])
def test_colours_and_places_go_through_every_format_of_subtitles(form: str) -> None:
    script = OUTPUT_FORMATS["srt"].read(STYLED.encode())
    back = OUTPUT_FORMATS[form].read(OUTPUT_FORMATS[form].write(script))
    assert back.cues is not None
    first, second = back.cues
    again = read_srt(write_srt([first, second])).cues
    assert first.lines == ("Red and orange",) and keypad_of_settings(first.settings) == 8
    assert {(mark.tag, again[0].lines[0][mark.first : mark.last]) for mark in again[0].marks} == {
        ("c.red", "Red"),
        ("color #ffa500", "orange"),
    }
    assert keypad_of_settings(second.settings) == 1


def test_what_srt_cannot_keep_is_told_by_kind() -> None:
    told = " ".join(OUTPUT_FORMATS["srt"].read(STYLED.encode()).notes)
    assert "dropped: position" in told and "dropped: font" in told


def test_what_is_dropped_is_told_by_kind_and_cue() -> None:
    cues = [
        Cue(
            0,
            1,
            ("a bc",),
            marks=(Mark(0, 0, 1, "c.loud"), Mark(0, 2, 4, "i")),
            settings="region:top size:40%",
        ),
        Cue(2, 3, ("d",), marks=(Mark(0, 0, 1, "ruby"),)),
        *(Cue(at, at + 1, ("e",), marks=(Mark(0, 0, 1, "c.loud"),)) for at in range(4, 9, 2)),
    ]
    (srt,) = losses(cues, ["STYLE\n::cue {}", "NOTE hello"], OUTPUT_FORMATS["srt"].says)
    assert srt == (
        "dropped: class (cues 1, 3, 4 and 1 more), width of the cue (cue 1), region (cue 1), ruby "
        "(cue 2), "
        "style sheets, comments"
    )
    assert losses(cues, ["STYLE"], OUTPUT_FORMATS["vtt"].says) == []
    (plain,) = losses(cues, [], OUTPUT_FORMATS["txt"].says)
    assert "italics (cue 1)" in plain and "position (cue 1)" in plain


@pytest.mark.parametrize("digit", range(1, 10))
def test_a_place_on_the_keypad_is_kept(digit: int) -> None:
    assert keypad_of_settings(settings_of_keypad(digit)) == digit


@pytest.mark.parametrize(
    ("written", "mark"),
    [
        ("red", "c.red"),
        ("#FF0000", "c.red"),
        ("#f00", "c.red"),
        ("'#12ab9f'", "color #12ab9f"),
        ("mud", None),
    ],
)
def test_a_colour_is_known_by_name_and_number(written: str, mark: str | None) -> None:
    assert colour_mark(written) == mark


def test_no_time_inside_a_cue_is_invented() -> None:
    text = (
        "WEBVTT\n\n00:00:01.000 --> 00:00:05.000\nThe nets <00:00:02.500><c>are open at last</c>\n"
    )
    assert write_webvtt(read_webvtt(text).cues, inner_times=True) == text


def test_settings_that_are_glued_to_a_time_are_taken_as_browsers_do() -> None:
    (cue,) = read_webvtt("WEBVTT\n\n00:01.000 --> 00:03.000line:0\nTea?\n").cues
    assert (cue.start, cue.end, cue.settings) == (1.0, 3.0, "line:0")


def test_text_from_right_to_left_is_said_to_be_so() -> None:
    hebrew = Cue(0, 2, ("הציפורים חזרו",))
    assert 'tts:direction="rtl"' in write_ttml(
        [hebrew], "he"
    ) and 'tts:direction="rtl"' in write_ttml([hebrew])
    assert "direction" not in write_ttml([Cue(0, 2, ("Tea?",))], "en")


def test_drop_frame_time_codes_keep_pace_with_the_clock() -> None:
    """SMPTE ST 12-1: an hour of drop-frame code is an hour, to within a frame."""
    assert seconds_of_drop_frame(1, 0, 0, 0) == pytest.approx(3600.0, abs=0.01)
    assert seconds_of_drop_frame(0, 1, 0, 2) == pytest.approx(1800 * 1001 / 30000)
    document = (
        '<tt xmlns="http://www.w3.org/ns/ttml" xmlns:ttp="http://www.w3.org/ns/ttml#parameter" '
        'xml:lang="en" '
        'ttp:timeBase="smpte" ttp:frameRate="30" ttp:frameRateMultiplier="1000 1001" '
        'ttp:dropMode="dropNTSC">'
        '<body><div><p begin="01:00:00:00" end="01:00:02:00">Tea?</p></div></body></tt>'
    )
    assert read_ttml(document).cues[0].start == pytest.approx(3600.0, abs=0.01)


def test_styles_and_colours_in_braces_are_styles_and_colours() -> None:
    """As scripts of other programs have them, whose colours are blue, green, red."""
    text = r"{\b1}All{\b0} {\i1}of {\c&H0000FF&}them{\c}{\i0}"
    found = read_srt(f"1\n00:00:01,000 --> 00:00:02,000\n{text}\n")
    assert not found.remarks
    assert write_srt(found.cues).splitlines()[2] == (
        '<b>All</b> <i>of <font color="#ff0000">them</font></i>'
    )


def test_a_semicolon_before_frames_says_that_numbers_are_left_out() -> None:
    document = (
        '<tt xmlns="http://www.w3.org/ns/ttml" xmlns:ttp="http://www.w3.org/ns/ttml#parameter" '
        'xml:lang="en" ttp:timeBase="smpte" ttp:frameRate="30" '
        'ttp:frameRateMultiplier="1000 1001"><body><div>'
        '<p begin="01:00:00;00" end="1:00:02,500">Tea?</p></div></body></tt>'
    )
    (cue,) = read_ttml(document).cues
    assert cue.start == pytest.approx(3600.0, abs=0.01)
    assert cue.end == pytest.approx(3602.5 * 1.001, abs=0.01)


@pytest.mark.parametrize(
    ("written", "read"),
    [
        ("salt &amp; pepper & mud", "salt & pepper & mud"),
        ("caf&eacute;&nbsp;noir", "café noir"),
        ("a &c; b", "a &c; b"),
        # What is well-formed already stays as it is.
        ("<![CDATA[a & &nbsp; b]]>", "a & &nbsp; b"),
    ],
)
def test_characters_of_html_and_bare_ampersands_are_read(written: str, read: str) -> None:
    document = (
        '<tt xmlns="http://www.w3.org/ns/ttml" xml:lang="en"><body><div>'
        f'<p begin="1s" end="2s">{written}</p></div></body></tt>'
    )
    found = read_ttml(document)
    assert found.cues[0].text == read
    assert bool(found.remarks) is ("CDATA" not in written)


def test_what_moves_or_hides_text_is_told() -> None:
    document = (
        '<tt xmlns="http://www.w3.org/ns/ttml" xml:lang="en"><body><div><p begin="1s" end="2s">'
        '<set begin="0.5s" visibility="hidden"/>Tea?</p></div></body></tt>'
    )
    script = OUTPUT_FORMATS["ttml"].read(document.encode())
    assert script.notes == ("an animation was left out: '<set>'",)


@pytest.mark.parametrize(
    ("parameters", "text", "seconds"),
    [
        ({"frameRate": "25"}, "00:00:01:05", 1.2),
        ({"frameRate": "24", "frameRateMultiplier": "1000:1001"}, "24f", 1.001),
        ({"tickRate": "1000"}, "1500t", 1.5),
        (
            {"frameRate": "24", "frameRateMultiplier": "1000 1001", "timeBase": "smpte"},
            "0:01:00:00",
            60.06,
        ),
        ({"frameRate": "none"}, "30f", 1.0),
        ({"frameRate": "0"}, "30f", 1.0),
        ({"frameRateMultiplier": "1 0"}, "30f", 1.0),
        ({}, "00:00:01.25", 1.25),
        ({}, "soon", None),
    ],
)
def test_times_count_in_what_the_document_says(
    parameters: dict[str, str], text: str, seconds: float | None
) -> None:
    assert TtmlClock(parameters).seconds(text) == (
        None if seconds is None else pytest.approx(seconds)
    )


def test_a_rate_that_makes_no_sense_is_told() -> None:
    document = (
        '<tt xmlns="http://www.w3.org/ns/ttml" xmlns:ttp="http://www.w3.org/ns/ttml#parameter" '
        'xml:lang="en" ttp:frameRate="often"><body><div>'
        '<p begin="1s" end="2s">Tea?</p></div></body></tt>'
    )
    script = OUTPUT_FORMATS["ttml"].read(document.encode())
    assert any("a rate could not be read: 'often'" in note for note in script.notes)


@pytest.mark.parametrize(
    ("content", "name"),
    [
        (b"WEBVTT\n\n00:01.000 --> 00:02.000\nTea?\n", "vtt"),
        (STYLED.encode(), "srt"),
        (b'\xef\xbb\xbf<?xml version="1.0"?>\n<tt xmlns="http://www.w3.org/ns/ttml"></tt>', "ttml"),
    ],
)
def test_a_format_is_known_by_its_text(content: bytes, name: str) -> None:
    assert format_of_text(content).name == name


def test_webvtt_in_a_file_of_another_name_is_read_as_what_it_is_and_told() -> None:
    script = OUTPUT_FORMATS["srt"].read(b"WEBVTT\n\n00:01.000 --> 00:02.000\nTea &amp; toast\n")
    assert script.cues is not None and script.cues[0].lines == ("Tea & toast",)
    assert "this is vtt" in script.notes[0]


def test_subtitles_in_a_plain_text_are_read_and_repaired_as_what_they_are(
    mantisreed: Callable[..., CompletedProcess[str]], tmp_path: Path
) -> None:
    file = tmp_path / "talk.txt"
    file.write_text(f"1\n00:00:01,000 --> 00:00:04,000\n{'salt marsh ' * 6}\n")
    told = mantisreed("check", "--fix", "talk.txt")
    assert told.returncode == 0, told.stderr
    (cue,) = OUTPUT_FORMATS["srt"].read(file.read_bytes()).cues or ()
    assert len(cue.lines) == 2
    # There is nothing more to repair, and its name breaks no rule.
    again = mantisreed("check", "--fix", "talk.txt")
    assert again.stdout.strip() == "talk.txt: 1 cue, no problems found"
    assert "this is srt" in again.stderr


def test_a_page_has_an_anchor_for_each_time_and_nothing_from_elsewhere() -> None:
    script = OUTPUT_FORMATS["srt"].read(b"1\n00:01:02,500 --> 00:01:04,000\n<i>Tea</i> & toast\n")
    page = OUTPUT_FORMATS["html"].write(script, None, "talk <1>").decode()
    assert '<p id="t=62.500"><a href="#t=62.500">00:01:02</a> Tea &amp; toast</p>' in page
    assert "<h1>talk &lt;1&gt;</h1>" in page and "http" not in page.replace("http-equiv", "")


def test_chapters_are_of_minutes_and_begin_after_the_longest_pauses() -> None:
    blocks = []
    for at in range(60):
        start = at * 10 + (6 if at % 15 == 0 else 0)
        times = (
            f"00:{start // 60:02}:{start % 60:02},000 --> "
            f"00:{(at * 10 + 8) // 60:02}:{(at * 10 + 8) % 60:02},000"
        )
        blocks.append(f"{at + 1}\n{times}\nSentence number {at}.\n")
    written = OUTPUT_FORMATS["chapters"].write(
        OUTPUT_FORMATS["srt"].read("\n".join(blocks).encode())
    )
    found = read_webvtt(written.decode()).cues
    assert [cue.text for cue in found] == [
        "Sentence number 0.",
        "Sentence number 15.",
        "Sentence number 30.",
        "Sentence number 45.",
    ]
    assert all(later.start >= earlier.end for earlier, later in pairwise(found))


def test_a_region_of_webvtt_is_a_region_of_ttml() -> None:
    text = (
        "WEBVTT\n\nREGION\nid:side\nwidth:40%\nlines:3\nregionanchor:0%,100%\nviewportanchor:10%,90%\n\n"
        "00:00:01.000 --> 00:00:02.000 region:side\nTea?\n"
    )
    script = OUTPUT_FORMATS["vtt"].read(text.encode())
    written = OUTPUT_FORMATS["ttml"].write(script).decode()
    assert 'xml:id="of-side" tts:origin="10% 74.01%" tts:extent="40% 15.99%"' in written
    assert 'end="00:00:02.000" region="of-side"' in written
    assert losses(script.cues or (), script.head, OUTPUT_FORMATS["ttml"].says) == []
