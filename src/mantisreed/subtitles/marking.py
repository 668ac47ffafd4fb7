"""Marks in lines: out of text with tags, and back into it."""

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from itertools import chain, pairwise

from mantisreed.subtitles.cues import Cue, Mark

Span = tuple[int, int, str]
"""From one place in a text to another, and the tag that stands around it."""

STYLES = ("b", "i", "u")
"""Tags that more than one format has."""


DEEPEST = 30
"""Tags in one another at most: where one ends inside others these are written again, and the text
grows.
"""


def lines_with_marks(shown: str, spans: Iterable[Span]) -> tuple[tuple[str, ...], tuple[Mark, ...]]:
    """The lines of a text that are not blank, stripped, and what is marked in them.

    Args:
        shown: the text without its tags.
        spans: outer ones before those inside.
    """
    places: list[tuple[int, int]] = []
    lines: list[str] = []
    at = 0
    for raw in shown.split("\n"):
        if line := raw.strip():
            begin = at + len(raw) - len(raw.lstrip())
            places.append((begin, begin + len(line)))
            lines.append(line)
        at += len(raw) + 1
    marks: list[Mark] = []
    for number, ((begin, end), own) in enumerate(
        zip(places, spans_in_parts(spans, places), strict=True)
    ):
        marks += marks_in(own, begin, end, number)
    return tuple(lines), tuple(marks)


def spans_in_parts(spans: Iterable[Span], parts: Sequence[tuple[int, int]]) -> Iterator[list[Span]]:
    """For each part [begin, end) of a text, in order and apart, the spans that reach into it, in
    their order.
    """
    waiting = deque(sorted(spans, key=lambda span: span[0]))
    inside: list[Span] = []
    for begin, end in parts:
        inside = [span for span in inside if span[1] > begin]
        while waiting and waiting[0][0] < end:
            span = waiting.popleft()
            if span[1] > begin:
                inside.append(span)
        yield inside


def marks_in(spans: Iterable[Span], begin: int, end: int, number: int) -> Iterator[Mark]:
    """The marks of a line that stands at [begin, end) of a text, of which spans are marked."""
    for first, last, tag in spans:
        if max(first, begin) < min(last, end):
            yield Mark(number, max(first, begin) - begin, min(last, end) - begin, tag)


def marked_lines(
    cue: Cue,
    escape: Callable[[str], str],
    tags_of: Callable[[str], tuple[str, str] | None],
    inserts: Mapping[int, Sequence[tuple[int, str]]] | None = None,
) -> list[str]:
    """A cue's lines with their marks as tags, properly nested.

    Args:
        cue: with its marks.
        escape: for the text between tags.
        tags_of: start and end tag of a mark's tag; None where the format has none.
        inserts: by line: places, and what is put in there as it is.
    """
    of_lines: dict[int, list[Mark]] = {}
    for mark in cue.marks:
        of_lines.setdefault(mark.line, []).append(mark)
    return [
        _marked(line, of_lines.get(number, ()), escape, tags_of, (inserts or {}).get(number, ()))
        for number, line in enumerate(cue.lines)
    ]


# marks in one another; where some end in others, each is written again, and a text would grow
# without end
DEEPEST = 30


def _marked(
    line: str,
    marks: Iterable[Mark],
    escape: Callable[[str], str],
    tags_of: Callable[[str], tuple[str, str] | None],
    inserts: Sequence[tuple[int, str]],
) -> str:
    known = [(mark, tags) for mark in marks if (tags := tags_of(mark.tag)) is not None]
    if not known and not inserts:
        return escape(line)
    places = {0, len(line), *(place for place, _ in inserts)}
    places |= set(chain.from_iterable((mark.first, mark.last) for mark, _ in known))
    put_in: dict[int, list[str]] = {}
    for at, text in inserts:
        put_in.setdefault(at, []).append(text)
    begins: dict[int, list[tuple[Mark, tuple[str, str]]]] = {}
    for mark, tags in known:
        if mark.first < mark.last:
            begins.setdefault(mark.first, []).append((mark, tags))
    parts: list[str] = []
    inside: list[tuple[Mark, tuple[str, str]]] = []
    for place, following in pairwise([*sorted(places), len(line)]):
        interrupted = []
        while any(mark.last <= place for mark, _ in inside):
            mark, tags = inside.pop()
            parts.append(tags[1])
            if mark.last > place:
                interrupted.append((mark, tags))
        parts += put_in.get(place, ())
        beginning = sorted(begins.get(place, ()), key=lambda pair: -pair[0].last)
        for one in [*reversed(interrupted), *beginning][: max(0, DEEPEST - len(inside))]:
            inside.append(one)
            parts.append(one[1][0])
        parts.append(escape(line[place:following]))
    return "".join(parts)
