"""TTML as others write it, class by class."""

import pytest

from mantisreed.errors import InputError
from mantisreed.formats.ttml_reading import read_ttml

HEAD = (
    '<tt xmlns="http://www.w3.org/ns/ttml" xmlns:ttp="http://www.w3.org/ns/ttml#parameter" '
    'xmlns:tts="http://www.w3.org/ns/ttml#styling" xmlns:ttm="http://www.w3.org/ns/ttml#metadata" '
    'xml:lang="en" {parameters}><head><styling><style xml:id="base" tts:fontStyle="italic"/>'
    '<style xml:id="chained" style="base" tts:textAlign="end"/></styling><layout>'
    '<region xml:id="top" tts:origin="10% 5%" tts:extent="80% 20%" tts:displayAlign="before"/>'
    "</layout></head>"
)


def cues(body: str, parameters: str = "") -> list[tuple[float, float, str]]:
    read = read_ttml(HEAD.format(parameters=parameters) + body + "</tt>")
    return [(round(cue.start, 3), round(cue.end, 3), " / ".join(cue.lines)) for cue in read.cues]


@pytest.mark.parametrize(
    ("body", "parameters", "found"),
    [
        (
            '<body><div><p begin="00:00:01:00" end="00:00:02:00">a</p></div></body>',
            'ttp:frameRate="30" ttp:frameRateMultiplier="1000 1001"',
            [(1.0, 2.0, "a")],
        ),
        (
            '<body><div><p begin="01:00:00:15" end="01:00:01:00">a</p></div></body>',
            'ttp:timeBase="smpte" ttp:frameRate="30" ttp:frameRateMultiplier="1000 1001"',
            [(3604.101, 3604.601, "a")],
        ),
        (
            '<body><div><p begin="00:00:10:00" end="00:00:11:12">a</p></div></body>',
            'ttp:timeBase="smpte" ttp:frameRate="25"',
            [(10.0, 11.48, "a")],
        ),
        (
            '<body><div><p begin="30f" end="60f">a</p></div></body>',
            'ttp:frameRate="30" ttp:frameRateMultiplier="1000 1001"',
            [(1.001, 2.002, "a")],
        ),
        (
            '<body><div timeContainer="seq"><p dur="2s">a</p><p dur="1s">b</p></div></body>',
            "",
            [(0.0, 2.0, "a"), (2.0, 3.0, "b")],
        ),
        (
            '<body begin="10s"><div begin="5s" dur="4s"><p begin="1s" dur="9s">a</p></div></body>',
            "",
            [(16.0, 19.0, "a")],
        ),
        (
            '<body><div><p begin="1s" end="5s"><span begin="0s" end="2s">a</span>'
            '<span begin="2s" end="4s">b</span></p></div></body>',
            "",
            [(1.0, 3.0, "a"), (3.0, 5.0, "b")],
        ),
        (
            '<body><div><p begin="1s">a</p><p begin="4s">b</p></div></body>',
            "",
            [(1.0, 4.0, "a"), (4.0, 9.0, "b")],
        ),
        (
            '<body><div><p begin="1s" end="2s"><metadata><ttm:desc>no</ttm:desc></metadata>a'
            "<ttm:title>nor this</ttm:title></p></div></body>",
            "",
            [(1.0, 2.0, "a")],
        ),
    ],
    ids=[
        "non-drop",
        "time code",
        "whole frames a second",
        "frames",
        "in sequence",
        "nested",
        "timed spans",
        "endless",
        "metadata",
    ],
)
def test_times_and_texts_of_each_class(
    body: str, parameters: str, found: list[tuple[float, float, str]]
) -> None:
    assert cues(body, parameters) == found


def test_regions_and_styles_are_those_of_what_a_paragraph_stands_in() -> None:
    body = (
        '<body><div region="top" style="chained"><p begin="1s" end="2s" style="chained">a</p></div>'
        "</body>"
    )
    (cue,) = read_ttml(HEAD.format(parameters="") + body + "</tt>").cues
    assert cue.settings == "line:0 align:end"
    assert [mark.tag for mark in cue.marks] == ["i"]


def test_pictures_of_text_are_refused() -> None:
    body = '<body><div begin="1s" end="2s"><image src="a.png"/></div></body>'
    with pytest.raises(InputError, match="pictures of its text"):
        cues(body)


STYLED = [
    ('<body style="base"><div><p begin="1s" end="2s">a</p></div></body>', {("i", "a")}),
    ('<body><div style="chained"><p begin="1s" end="2s">a</p></div></body>', {("i", "a")}),
    ('<body><div><p region="red" begin="1s" end="2s">a</p></div></body>', {("c.red", "a")}),
    (
        '<body tts:color="yellow"><div><p begin="1s" end="2s">a <span tts:color="white">b</span> '
        "c</p></div></body>",
        {("c.yellow", "a "), ("c.yellow", " c")},
    ),
    (
        '<body><div><p style="base" begin="1s" end="2s">a <span tts:fontStyle="normal">b</span>'
        "</p></div></body>",
        {("i", "a ")},
    ),
    (
        '<body tts:color="red"><div><p begin="1s" end="2s"><span tts:color="lime">a</span>b</p>'
        "</div></body>",
        {("c.lime", "a"), ("c.red", "b")},
    ),
    (
        '<body><div><p begin="1s" end="2s"><span style="base">a <span tts:fontWeight="bold">b'
        "</span></span></p></div></body>",
        {("i", "a b"), ("b", "b")},
    ),
]


@pytest.mark.parametrize(("body", "marked"), STYLED)
def test_styles_come_from_all_that_text_stands_in(body: str, marked: set[tuple[str, str]]) -> None:
    region = '<region xml:id="red"><style tts:color="red"/></region></layout>'
    document = HEAD.format(parameters="").replace("</layout>", region) + body + "</tt>"
    cue = read_ttml(document).cues[0]
    assert {
        (mark.tag, cue.lines[mark.line][mark.first : mark.last]) for mark in cue.marks
    } == marked


@pytest.mark.parametrize(
    "body",
    [
        '<p begin="1s" end="2s">seen</p><p tts:display="none" begin="3s" end="4s">hidden</p>',
        '<p begin="1s" end="2s">seen<span tts:visibility="hidden">hidden</span></p>',
        '<p begin="1s" end="2s"><span tts:opacity="0">hidden</span>seen</p>',
        '<p begin="1s" end="2s">seen</p><p region="off" begin="3s" end="4s">hidden</p>',
        '<p tts:visibility="hidden" begin="1s" end="2s">hidden'
        '<span tts:visibility="visible">seen</span></p>',
    ],
)
def test_what_is_not_displayed_is_left_out_and_told(body: str) -> None:
    off = '<region xml:id="off" tts:display="none"/></layout>'
    document = HEAD.format(parameters="").replace("</layout>", off)
    read = read_ttml(f"{document}<body><div>{body}</div></body></tt>")
    assert [cue.text for cue in read.cues] == ["seen"]
    assert [one.found for one in read.remarks if "not displayed" in one.what] == ["hidden"]
