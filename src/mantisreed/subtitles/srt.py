"""SubRip text (SRT): numbered cues, times as `hh:mm:ss,mmm`. It has no standard; this is what players take."""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

from mantisreed.subtitles.cues import Cue, Subtitles
from mantisreed.subtitles.decoding import with_line_feeds
from mantisreed.subtitles.marking import DEEPEST, STYLES, Span, lines_with_marks, marked_lines
from mantisreed.subtitles.remarks import Remark, excerpt_of
from mantisreed.subtitles.styling import colour_mark, colour_of, keypad_of_settings, settings_of_keypad
from mantisreed.units import clock

TIME = r"(?:(\d{1,6}):)?(\d{1,2}):(\d{1,2})(?:[.,:](\d{1,3}))?"
_TIMES = re.compile(rf"\s*{TIME}\s*-{{1,2}}>\s*{TIME}(.*)")
_STRICT = re.compile(r"\d{2,}:[0-5]\d:[0-5]\d,\d{3} --> \d{2,}:[0-5]\d:[0-5]\d,\d{3}\s*$")
_AS_WRITTEN = "hh:mm:ss,mmm --> hh:mm:ss,mmm"
_NO_SPAN = -1  # for a tag that marks nothing
_KINDS = {
    "s": "strikethrough",
    "font": "font",
    "c": "class",
    "v": "voice",
    "lang": "language",
    "ruby": "ruby",
    "rt": "ruby",
}
_OVERRIDES = {"pos": "position", "move": "position", "fad": "fading", "k": "times inside the cue", "a": "position"}
_TAG = re.compile(r"<(/?)(b|i|u|s|font|c|v|lang|ruby|rt)\b[^>\n]*>|\{\\[^}\n]*\}", re.IGNORECASE)


def write_srt(cues: Iterable[Cue], *, first: int = 1) -> str:
    """The whole file, or what goes on with one. SRT has no escapes: an arrow in the text is written as one character.

    Args:
        cues: by start.
        first: the number of the first of them.
    """
    return "".join(_block(number, cue) for number, cue in enumerate(cues, first))


def read_srt(text: str) -> Subtitles:
    """The cues of SRT text in the order they stand.

    Numbers may be missing or wrong, blank lines more or fewer, hours missing or over 99, the comma a dot, the arrow
    short. Bold, italics, underlining, font colours and places by `{\\anN}` are kept; what else is dropped is told.
    """
    lines = with_line_feeds(text).split("\n")
    starts = [number for number, line in enumerate(lines) if _TIMES.match(line)]
    found = Subtitles()
    head = [line for line in lines[: starts[0] if starts else len(lines)] if line.strip()]
    if head and head[-1].strip().isdigit() and starts:
        head.pop()
    if head:
        what = "text before the first cue was left out"
        found.remarks.append(Remark(what, excerpt_of(head[0]), "a number and times", 1))
    number = 0
    for start, following in pairwise([*starts, len(lines)]):
        times = _TIMES.match(lines[start])
        assert times is not None
        begin, end = seconds_of(times.groups()[:4]), seconds_of(times.groups()[4:8])
        place = (start + 1, len(found.cues) + 1, begin)
        number, remarks = _frame(lines, start, number, place)
        found.remarks += remarks
        if end < begin:
            found.remarks.append(
                Remark("a cue ended before it began", lines[start].strip(), "an end after its start", *place)
            )
        if times[9].strip():
            found.remarks.append(Remark("dropped: coordinates", times[9].strip(), "", *place))
        said = _untagged("\n".join(_payload(lines[start + 1 : following], following == len(lines))))
        found.remarks += [Remark(f"dropped: {kind}", example, "", *place) for kind, example in said.dropped.items()]
        kept, marks = lines_with_marks(said.shown, said.spans)
        found.cues.append(Cue(begin, max(begin, end), kept, marks=marks, settings=said.settings))
    found.remarks += order_remarks(found.cues)
    return found


def order_remarks(cues: Sequence[Cue]) -> list[Remark]:
    """What is odd about the order of cues."""
    remarks = []
    if any(later.start < earlier.start for earlier, later in pairwise(cues)):
        remarks.append(Remark("cues do not stand in the order of their times"))
    by_start = pairwise(sorted(cues, key=lambda cue: cue.start))
    # Voices of one cue are cues of the same times.
    if any(b.start < a.end and (a.start, a.end) != (b.start, b.end) for a, b in by_start):
        remarks.append(Remark("cues overlap"))
    return remarks


def seconds_of(parts: tuple[str | None, ...]) -> float:
    """From hours, minutes, seconds and fraction."""
    hours, minutes, seconds, fraction = parts
    whole = (int(hours or 0) * 60 + int(minutes or 0)) * 60 + int(seconds or 0)
    return round(whole + int((fraction or "0").ljust(3, "0")) / 1000, 3)


def _frame(lines: Sequence[str], start: int, before: int, place: tuple[int, int, float]) -> tuple[int, list[Remark]]:
    """The number above a cue's times, `before` being the one of the cue above, and what is wrong around it."""
    remarks = []
    above = lines[start - 1].strip() if start else ""
    number = int(above) if above.isdecimal() and len(above) < 10 else before + 1
    if not above.isdecimal():
        remarks.append(Remark("a cue has no number", "", str(before + 1), *place))
    elif number != before + 1:
        remarks.append(Remark("cues are not numbered one by one", above, str(before + 1), *place))
    top = start - 1 if above.isdecimal() else start
    if top > 0 and lines[top - 1].strip() and place[1] > 1:
        remarks.append(
            Remark("no blank line stands before a cue", excerpt_of(lines[top - 1]), "a blank line", *place)
        )
    if not _STRICT.match(lines[start]):
        remarks.append(Remark("times are not written as usual", lines[start].strip(), _AS_WRITTEN, *place))
    return number, remarks


@dataclass(slots=True)
class _Text:
    """A cue's text without its tags.

    Attributes:
        shown: what is read.
        spans: what is marked in it, in the order in which it begins.
        settings: WebVTT's, of the place that the text asks for.
        dropped: what is not kept: its kind, and the first of it as it stands.
    """

    shown: str = ""
    spans: list[Span] = field(default_factory=list)
    settings: str = ""
    dropped: dict[str, str] = field(default_factory=dict)


def _untagged(text: str) -> _Text:
    found, at = _Text(), 0
    inside: dict[str, list[int]] = {}  # places in spans, of tags that are open
    for tag in _TAG.finditer(text):
        found.shown += text[at : tag.start()]
        at = tag.end()
        if tag[2] is None:
            _take_override(tag[0], found)
            continue
        name = tag[2].lower()
        if tag[1]:
            number = inside[name].pop() if inside.get(name) else _NO_SPAN
            if number != _NO_SPAN:
                found.spans[number] = (found.spans[number][0], len(found.shown), found.spans[number][2])
            continue
        # What is bold is not made bolder, and tags that nobody closes must not pile up over a long text.
        is_more = bool(inside.get(name)) if name in STYLES else sum(map(len, inside.values())) >= DEEPEST
        if is_more:
            inside.setdefault(name, []).append(_NO_SPAN)
            continue
        mark = name if name in STYLES else _colour_in(tag[0]) if name == "font" else None
        if mark is None:
            found.dropped.setdefault(_KINDS.get(name, "style"), tag[0])
            mark = ""
        inside.setdefault(name, []).append(len(found.spans))
        found.spans.append((len(found.shown), len(text), mark))
    found.shown += text[at:]
    found.spans = [span for span in found.spans if span[2]]
    return found


def _colour_in(tag: str) -> str | None:
    """The mark of a font's colour; None where the tag has none."""
    if re.search(r"\b(?:face|size)\s*=", tag, re.IGNORECASE) and "color" not in tag.lower():
        return None
    colour = re.search(r"""\bcolor\s*=\s*("[^"]*"|'[^']*'|[^\s>]+)""", tag, re.IGNORECASE)
    return colour_mark(colour[1]) if colour else None


def _take_override(tag: str, found: _Text) -> None:
    """Take a tag in braces: a place, or something that only other formats have."""
    for part in tag.strip("{}").split("\\")[1:]:
        place = re.fullmatch(r"an([1-9])", part.strip())
        if place:
            found.settings = found.settings or settings_of_keypad(int(place[1]))
        elif part.strip():
            name = re.match(r"[a-z]+", part.strip())
            kind = _OVERRIDES.get(name[0] if name else "", "override")
            found.dropped.setdefault(kind, tag)


def _payload(lines: Sequence[str], is_last: bool) -> list[str]:
    """The text of a cue, without the number right above the next one's times; blank lines inside do not end it."""
    has_number = bool(lines) and not is_last and lines[-1].strip().isdecimal()
    return [line for line in (lines[:-1] if has_number else lines) if line.strip()]


def _block(number: int, cue: Cue) -> str:
    text = "\n".join(marked_lines(cue, _escaped, _tags_of))
    place = keypad_of_settings(cue.settings) if cue.settings else 2
    if place != 2:
        text = f"{{\\an{place}}}{text}"
    return f"{number}\n{clock(cue.start, separator=',')} --> {clock(cue.end, separator=',')}\n{text}\n\n"


def _escaped(text: str) -> str:
    return text.replace("-->", "→")


def _tags_of(tag: str) -> tuple[str, str] | None:
    if tag in STYLES:
        return f"<{tag}>", f"</{tag}>"
    colour = colour_of(tag)
    return (f'<font color="{colour}">', "</font>") if colour else None
