"""Cues as WebVTT."""

import re
from collections.abc import Iterable
from dataclasses import replace
from itertools import chain, pairwise

from mantisreed.formats.styling import class_of_colour, colour_of
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.marking import (
    marked_lines,
)
from mantisreed.transcript.document import Word
from mantisreed.transcript.writing import needs_space
from mantisreed.units import clock

_ESCAPES = str.maketrans(
    {
        "&": "&amp;",
        "<": "&lt;",
        ">": "&gt;",
        "\u200e": "&lrm;",
        "\u200f": "&rlm;",
        "\xa0": "&nbsp;",
    },
)

SPACES = re.compile(r"[ \t\n\f]+")


def write_webvtt(
    cues: Iterable[Cue], *, inner_times: bool = False, head: Iterable[str] = ()
) -> str:
    """The whole file; `&`, `<` and `>` in the text are escaped, speakers are voice spans.

    Args:
        cues: by start.
        inner_times: put a timestamp before each word whose time is known, and a `c` around it, so
            that players can show words as spoken; those that a cue was read with are written
            anyway.
        head: blocks of styles, regions and comments, as they stand.
    """
    cues = list(cues)
    written = "\n".join(head)
    marks = chain.from_iterable(cue.marks for cue in cues)
    colours = (colour_of(mark.tag) for mark in marks if mark.tag.startswith("color "))
    new = [
        colour
        for colour in dict.fromkeys(colours)
        if colour and class_of_colour(colour) not in written
    ]
    rules = [f"::cue(.{class_of_colour(colour)}) {{ color: {colour}; }}" for colour in new]
    head = [*head, "\n".join(["STYLE", *rules])] if rules else head
    blocks = "".join(f"\n{block}\n" for block in head)
    return f"WEBVTT\n{blocks}" + "".join(_block(cue, inner_times=inner_times) for cue in cues)


def _block(cue: Cue, *, inner_times: bool) -> str:
    stamps: dict[int, list[tuple[int, str]]] = {}
    marked = cue
    if (inner_times or cue.inner) and len(cue.words) > 1:
        stamps, words = _stamps(cue)
        marked = replace(cue, marks=(*cue.marks, *words))
    lines = marked_lines(marked, _escaped, _tags_of, stamps)
    if cue.turns:
        voices = zip(cue.turns, lines, strict=True)
        text = "\n".join(
            f"{_voice(turn.speaker)}{line}</v>" if turn.speaker else line for turn, line in voices
        )
    else:
        text = _voice(cue.speaker) + "\n".join(lines)
    if cue.name and "-->" not in cue.name:
        name = f"{cue.name}\n"
    else:
        name = ""
    settings = f" {cue.settings}" if cue.settings else ""
    return f"\n{name}{clock(cue.start)} --> {clock(cue.end)}{settings}\n{text}\n"


def _voice(speaker: str | None) -> str:
    """The start tag of a voice; nothing where nobody knows whose it is."""
    if speaker is None:
        return ""
    return f"<v {_escaped(SPACES.sub(' ', speaker))}>"


def _stamps(cue: Cue) -> tuple[dict[int, list[tuple[int, str]]], list[Mark]]:
    """By line: places of words, but the first, whose time lies within the cue and grows, and the
    time as a tag. And a mark around what follows each of them: `::cue(:past)` and
    `::cue(:future)`, with which pages show how far a speaker is, hold for elements only, not for
    bare text.
    """
    stamps: dict[int, list[tuple[int, str]]] = {}
    line, at, latest = 0, 0, cue.start
    for number, word in enumerate(cue.words):
        found = next(
            (
                (n, place)
                for n in range(line, len(cue.lines))
                if (place := cue.lines[n].find(word.text, at * (n == line))) >= 0
            ),
            None,
        )
        if found is None:
            continue
        line, place = found
        at = place + len(word.text)
        is_known = cue.inner is None or number in cue.inner
        if number and is_known and round(latest, 3) < round(word.start, 3) < round(cue.end, 3):
            stamps.setdefault(line, []).append((place, f"<{clock(word.start)}>"))
            latest = word.start
    marks = []
    for line, tags in stamps.items():
        places = [place for place, _ in tags]
        for place, following in pairwise([*places, len(cue.lines[line])]):
            end = place + len(cue.lines[line][place:following].rstrip())
            marks.append(Mark(line, place, end, "c"))
    return stamps, marks


def _escaped(text: str) -> str:
    return text.translate(_ESCAPES)


def _tags_of(tag: str) -> tuple[str, str] | None:
    if tag.startswith("color "):
        return f"<c.{class_of_colour(tag.removeprefix('color '))}>", "</c>"
    return f"<{tag}>", f"</{re.split(r'[. ]', tag, maxsplit=1)[0]}>"


def words_as_cues(cues: Iterable[Cue]) -> list[Cue]:
    """A cue for each word whose time is known; cues without such words stay whole."""
    single = []
    for cue in cues:
        texts = "".join(cue.lines)
        if not cue.words or not texts:
            single.append(cue)
            continue
        first = cue.turns[0].words if cue.turns else len(cue.words)
        groups: list[list[Word]] = []
        for number, word in enumerate(cue.words):
            if groups and number != first and not needs_space(groups[-1][-1].text, word.text):
                groups[-1].append(word)
            else:
                groups.append([word])
        single += [
            Cue(
                group[0].start,
                max(group[-1].end, group[0].start),
                ("".join(word.text for word in group),),
                cue.speaker if group[0] in cue.words[:first] else cue.turns[-1].speaker,
            )
            for group in groups
        ]
    return single
