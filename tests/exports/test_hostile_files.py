"""Files from anywhere: readers take time that grows with the size, refuse in a line, and write
nothing that runs.
"""

import contextlib
import csv
import io
import json
import time
from collections.abc import Callable
from itertools import pairwise
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.errors import InputError
from mantisreed.exports.formats import FORMATS, OUTPUT_FORMATS
from mantisreed.exports.script import Script, WriteOptions, bare_transcript
from mantisreed.exports.tables import harmless_cell, read_table, write_table
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.document import Passage

READERS = {form.name: form.read for form in FORMATS if form.read_text is not None}
SRT = "1\n00:00:01,000 --> 00:00:02,000\n"
VTT = "WEBVTT\n\n00:01.000 --> 00:02.000\n"
TTML = '<tt xmlns="http://www.w3.org/ns/ttml" xml:lang="en"><body><div>{}</div></body></tt>'
P = '<p begin="1s" end="2s">'
PATTERNS: dict[str, tuple[str, Callable[[int], str]]] = {
    "open tags": ("srt", lambda n: SRT + "<b>" * (n // 3)),
    "brackets": ("srt", lambda n: SRT + "<" * n),
    "braces": ("srt", lambda n: SRT + r"{\an8}" * (n // 6)),
    "arrows": ("srt", lambda n: "-->\n" * (n // 4)),
    "blanks": ("srt", lambda n: SRT + " " * n + "x"),
    "digits": ("srt", lambda n: "1\n" + "0" * n + ":00:01,000 --> 00:00:02,000\nx\n"),
    "nested voices": ("vtt", lambda n: VTT + "<c.a.b>" * (n // 7)),
    "classes": ("vtt", lambda n: VTT + "<c" + ".a" * (n // 2) + ">x"),
    "inner times": ("vtt", lambda n: VTT + "<00:01.500>x" * (n // 12)),
    "ruby": ("vtt", lambda n: VTT + "<ruby>a<rt>b" * (n // 12)),
    "tags over lines": ("vtt", lambda n: VTT + "<v Ada>x <rt>\n>y\n" * (n // 16)),
    "voices": ("vtt", lambda n: VTT + "".join(f"<v {number}>x" for number in range(n // 9))),
    "settings": ("vtt", lambda n: VTT[:-1] + " line:1" * (n // 7) + "\nx"),
    "open italics": ("srt", lambda n: "1\n00:00:01,000 --> 00:00:02,000\n" + "<i>x\n" * (n // 5)),
    "open colours": (
        "srt",
        lambda n: "1\n00:00:01,000 --> 00:00:02,000\n" + "<font color=red>x\n" * (n // 18),
    ),
    "spans": (
        "ttml",
        lambda n: TTML.format(P + "<span>" * (n // 14) + "</span>" * (n // 14) + "</p>"),
    ),
    "breaks": ("ttml", lambda n: TTML.format(P + "<br/>" * (n // 5) + "</p>")),
    "divisions": ("ttml", lambda n: TTML.format("<div>" * (n // 11) + "</div>" * (n // 11))),
    "a passage": ("md", lambda n: "**A** 00:00:01.000\n\n" + "word " * (n // 5)),
    "stars": ("md", lambda n: "**" * (n // 2)),
    "quotes": ("csv", lambda n: 'start,end,passage_text\n1,2,"' + '""' * (n // 2) + '"'),
    "commas": ("csv", lambda n: "," * n),
    "rows": ("tsv", lambda n: "start\tend\tpassage_text\n" + "1\t2\tx\n" * (n // 6)),
    "a long word": ("ctm", lambda n: "a 1 1 1 " + "x" * n),
    "lists": ("json", lambda n: "[" * (n // 2) + "]" * (n // 2)),
    "lines": ("timed", lambda n: "[00:00:01.000] x\n" * (n // 17)),
}


def seconds(name: str, content: bytes) -> float:
    began = time.process_time()
    with contextlib.suppress(InputError):
        READERS[name](content)
    return time.process_time() - began


@pytest.mark.parametrize("pattern", PATTERNS)
def test_reading_takes_time_that_grows_with_the_size(pattern: str) -> None:
    name, make = PATTERNS[pattern]
    contents = [make(size).encode() for size in (32_000, 128_000, 512_000)]
    taken = [seconds(name, content) for content in contents]
    for _ in range(3):
        # Four times as much takes about four times as long; quadratic work would take sixteen
        # times. A machine that is busy for a moment is asked again.
        if all(after < 9 * max(before, 0.04) for before, after in pairwise(taken)):
            return
        again = [seconds(name, content) for content in contents]
        taken = list(map(min, taken, again))
    raise AssertionError(taken)


@pytest.mark.parametrize("name", READERS)
@given(
    content=st.binary(max_size=300)
    | st.text(max_size=300).map(lambda text: text.encode("utf-8", "replace"))
)
def test_no_reader_fails_otherwise_than_by_refusing(name: str, content: bytes) -> None:
    try:
        READERS[name](content)
    except InputError as error:
        assert "\n" not in error.what


@pytest.mark.parametrize(
    "text", ["=1+1", "+cmd|' /C calc'!A0", "-2+3", "@SUM(A1)", "\t=1", "'=1", "''@x"]
)
def test_no_cell_is_a_formula_and_reading_gives_it_back(text: str) -> None:
    script = Script(cues=(Cue(1.0, 2.0, (text,), text),))
    written = write_table(script, WriteOptions(), delimiter=",")
    cells = [cell for row in csv.reader(io.StringIO(written)) for cell in row]
    assert not any(cell[:1] in ("=", "+", "-", "@", "\t") for cell in cells)
    (cue,) = read_table(written, delimiter=",").cues or ()
    assert cue.lines[0] == text and cue.speaker == text
    raw = write_table(script, WriteOptions(raw_cells=True), delimiter=",")
    assert any(cell == text for row in csv.reader(io.StringIO(raw)) for cell in row)


@pytest.mark.parametrize("text", ["-5", "+3.2", "tide", "", "a=b", "'tis"])
def test_what_is_no_formula_stays(text: str) -> None:
    assert harmless_cell(text) == text


@pytest.mark.parametrize("time_", ["inf", "nan", "-1", "1e300"])
def test_times_that_are_none_are_left_out(time_: str) -> None:
    script = read_table(f"start,end,cue_text\n{time_},2,x\n1,2,y\n", delimiter=",")
    assert [cue.lines for cue in script.cues or ()] == [("y",)] and script.notes


NAMES = st.text(st.characters(codec=None), max_size=20)


@given(
    NAMES,
    NAMES,
    NAMES,
    st.sampled_from(["ttml", "vtt", "srt", "csv", "tsv", "md", "timed", "txt", "ctm", "json"]),
)
def test_whatever_a_speaker_or_language_is_called_files_are_well_formed(
    speaker: str, language: str, text: str, name: str
) -> None:
    passages = (Passage(0.0, 1.0, text, speaker), Passage(1.0, 2.0, "Tea.", "Ben"))
    script = Script(bare_transcript(passages, language=language))
    written = OUTPUT_FORMATS[name].write(
        script, WriteOptions(rules=LayoutRules(speakers="name")), "fog.wav"
    )
    if name == "ttml":
        ElementTree.fromstring(written.decode())
    if name == "json":
        document = json.loads(written)
        assert "\n" not in (document["language"] or "") + "".join(document["speakers"])
    if name in ("csv", "tsv"):
        rows = list(
            csv.reader(
                io.StringIO(written.decode(), newline=""), delimiter="," if name == "csv" else "\t"
            )
        )
        assert len(rows) == 3 and all("\n" not in row[2] for row in rows)


@pytest.mark.parametrize("times", ["1e300, 1e301", "-1, 2", "5, 2", "0, 1e8"])
def test_a_transcript_with_times_that_are_none_is_refused(times: str) -> None:
    start, end = times.split(", ")
    document = json.loads(
        OUTPUT_FORMATS["json"].write(Script(bare_transcript((Passage(0.0, 1.0, "Tea."),))))
    )
    document["passages"][0] |= {"start": float(start), "end": float(end)}
    with pytest.raises(InputError, match="times that are none"):
        OUTPUT_FORMATS["json"].read(json.dumps(document).encode())


@pytest.mark.parametrize("delimiter", ["csv", "tsv"])
def test_a_gigantic_cell_is_refused_in_a_line(delimiter: str) -> None:
    for content in (b"start,end,word\n1,2," + b"a" * 200_000, b"a" * 200_000):
        with pytest.raises(InputError, match="cannot be read"):
            OUTPUT_FORMATS[delimiter].read(
                content.replace(b",", b"\t") if delimiter == "tsv" else content
            )


_TOKENS = {
    "srt": [
        *("<b>", "</b>", "<i", '<font color="red">', "</", "<", "{", r"{\an8}", "{y:i}", "\\"),
        *(r"\N", r"\h", "{\\", "&", "&amp;", "\n", "\n\n", "1\n", "-->", " ", "\t", "(", "[", "♪"),
        *("a", "<c.", "<00:00:01.000>", "{b}", "}", ">"),
    ],
    "vtt": [
        *("<v ", "<c.", "<", "</", "<00:00:01.000>", "&", "&#", "STYLE\n", "NOTE\n", "REGION\n"),
        *("{", "}", "\n\n", " ", "-->", "00:01.000 --> 00:02.000\n", "a", "- ", "<v a>"),
    ],
    "md": [
        *("**", "**0:01**", "* ", "`", "\\", "[", "]", "(", "<", "<mark>", "</mark>", "|", "#"),
        *(" ", "\n", "\n\n", "**a · 0:01**\n", " \t", "·", "_", "a", "**a ·", "** ", "**a  "),
    ],
    "timed": ["0:01.0 - 0:02.0  a\n", "0:01", " ", "-", "\n", "("],
    "csv": ['"', ",", "\n", "a", '""', ";"],
    "ctm": ["a 1 0.0 1.0 b\n", " ", ";;", "\n"],
    "ttml": ["<p>", "<", "<span>", "&", "<br/>", " ", "</p>", "<!--", "<?", "<![CDATA["],
}
_BEGINNINGS = {
    "srt": SRT,
    "vtt": VTT,
    "md": "**0:01**\n",
    "csv": "start,end,text\n1,2,",
    "ttml": TTML.partition("{}")[0] + P,
}


@pytest.mark.parametrize("name", _TOKENS)
def test_no_token_of_a_grammar_again_and_again_takes_more_than_its_share(name: str) -> None:
    """Every token, and every two of them, as often as 10 and 40 kB hold them: four times as much
    may not take much more than four times as long. Only what takes long at all is measured.
    """
    tokens = _TOKENS[name]
    for unit in (*tokens, *(one + two for one in tokens for two in tokens if one != two)):
        short, long = (
            (_BEGINNINGS.get(name, "") + unit * (size // len(unit))).encode()
            for size in (10_000, 40_000)
        )
        least = seconds(name, short)
        if least < 0.025:
            continue
        taken = seconds(name, long)
        # A machine that is busy for a moment is asked again.
        for _ in range(3):
            if taken < 0.25 or taken < 9 * least:
                break
            least, taken = min(least, seconds(name, short)), min(taken, seconds(name, long))
        assert taken < 0.25 or taken < 9 * least, (unit, least, taken)
