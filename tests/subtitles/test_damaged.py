"""Damaged SRT files are read as players read them, and what was wrong is told."""

import pytest

from mantisreed.formats.decoding import with_line_feeds
from mantisreed.formats.srt import read_srt
from mantisreed.subtitles.remarks import notes_of

TIMES = "00:00:01,000 --> 00:00:02,000"
ONE = f"1\n{TIMES}\nA\n\n"
TWO = "2\n00:00:03,000 --> 00:00:04,000\nB\n\n"
A, B = (1.0, 2.0, ("A",)), (3.0, 4.0, ("B",))


@pytest.mark.parametrize(
    ("text", "cues", "told"),
    [
        (
            f"one\n{TIMES}\nA\n\ntwo\n00:00:03,000 --> 00:00:04,000\nB\n",
            [A, B],
            "a name in place of its number",
        ),
        ((ONE + TWO).replace("\n", "\r"), [A, B], ""),
        ((ONE + TWO).replace("\n", "\r\r\n"), [A, B], ""),
        ((ONE + TWO).replace("\n", "\n\n"), [A, B], "blank lines stand between"),
        ((ONE + TWO).replace("\n\n", "\n"), [A, B], "no blank line stands before"),
        (ONE + "\ufeff" + TWO, [A, B], ""),
        *(
            (ONE.replace(" --> ", arrow), [A], "times are not written as usual")
            for arrow in (
                "-->",
                "\t-->\t",
                " → ",
                " -> ",
                " –> ",
                " ---> ",
                " --&gt; ",
                " => ",
                " – ",
            )
        ),
        *(
            (f"1\n{times}\nA\n", [A], "times are not written as usual")
            for times in (
                "00:00:01.000 --> 00:00:02.000",
                "00:00:01;000 --> 00:00:02;000",
                "00:00:01 --> 00:00:02",
                "0:1,0 --> 0:2,0",
                "00: 00: 01, 000 --> 00 :00 :02 ,000",
                "00:00:01,0000 --> 00:00:02,0000",
                "００：００：０１，０００ --> ００：００：０２，０００",
            )
        ),
        ("1\n-00:00:01,000 --> 00:00:02,000\nA\n", [(0.0, 2.0, ("A",))], "a cue began before 0"),
        ("1\n-00:00:05,000 --> -00:00:02,000\nA\n\n" + TWO, [B], "negative time was left out: 'A'"),
        (ONE + TWO + "3\n", [A, B], "not complete and was left out"),
        (ONE + "2\n00:00:03,0", [A], "not complete and was left out"),
        (ONE + "2\n00:00:03,000 -->", [A], "not complete and was left out"),
        (f"1\n{TIMES}\nTea &amp; toast\n", [(1.0, 2.0, ("Tea & toast",))], "as in HTML"),
        (f"1\n{TIMES}\nTea<br/>toast\n", [(1.0, 2.0, ("Tea", "toast"))], "as in HTML"),
        (f"1\n{TIMES}\nTea\\Ntoast\n", [(1.0, 2.0, ("Tea", "toast"))], "with a backslash"),
        (f"1\n{TIMES}\n{{i}}A{{/i}}\n", [A], "in braces"),
        (f"1\n{TIMES}\n{{\\p1}}m 0 0 l 9 9{{\\p0}}A\n", [A], "dropped: override"),
        (f"1\n{TIMES}\n<span class=x>A</span>\n", [A], "dropped: style"),
        (f"1\n{TIMES}\nA <3 B\n", [(1.0, 2.0, ("A <3 B",))], ""),
        (f"1\n{TIMES}\n1984\n\n" + TWO, [(1.0, 2.0, ("1984",)), B], ""),
    ],
)
def test_a_damaged_file_is_read_as_it_was_meant(
    text: str, cues: list[tuple[float, float, tuple[str, ...]]], told: str
) -> None:
    found = read_srt(with_line_feeds(text))
    assert [(cue.start, cue.end, cue.lines) for cue in found.cues] == cues
    notes = " ".join(notes_of(found.remarks))
    assert told in notes if told else not notes


def test_settings_behind_the_times_are_kept() -> None:
    (cue,) = read_srt(f"1\n{TIMES} line:0 align:start\nA\n").cues
    assert cue.settings == "line:0 align:start"


@pytest.mark.parametrize(
    ("behind", "lines", "told"),
    [
        ("X1:10 X2:20 Y1:1 Y2:2", ("A",), "dropped: coordinates"),
        ("L:50% line:0", ("A",), "dropped: coordinates"),
        ("Tamm: nets up", ("Tamm: nets up", "A"), "text stands behind a cue's times"),
        ("line:0 Nets up.", ("Nets up.", "A"), "text stands behind a cue's times"),
    ],
)
def test_text_behind_the_times_is_text(behind: str, lines: tuple[str, ...], told: str) -> None:
    found = read_srt(f"1\n{TIMES} {behind}\nA\n")
    assert found.cues[0].lines == lines and told in " ".join(notes_of(found.remarks))
