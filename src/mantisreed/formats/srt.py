"""SubRip text (SRT): numbered cues, times as `hh:mm:ss,mmm`. It has no standard; this is what
players take.
"""

import html
import re
import unicodedata
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from mantisreed.formats.cue_times import mend_times
from mantisreed.formats.decoding import with_line_feeds
from mantisreed.formats.styling import (
    colour_mark,
    colour_of,
)
from mantisreed.subtitles.cues import Cue, Subtitles
from mantisreed.subtitles.marking import DEEPEST, STYLES, Span, lines_with_marks, marked_lines
from mantisreed.subtitles.places import keypad_of_settings, settings_of_keypad
from mantisreed.subtitles.remarks import Remark, excerpt_of
from mantisreed.units import clock

# Bounded everywhere: a line of blanks would be tried from each of them.
_SPACE = r"[ \t]{0,4}"
_COLON = rf"{_SPACE}:{_SPACE}"
_FRACTION = rf"(?:{_SPACE}[.,:;]{_SPACE}(\d{{1,9}}))?"
_TIME = rf"(-)?(?:(\d{{1,6}}){_COLON})?(\d{{1,2}}){_COLON}(\d{{1,2}}){_FRACTION}"
_ARROW = r"(?:[ \t]*(?:[-–—−]{1,3}[ ]?(?:>|&gt;)|=>|[→⟶➔➜])[ \t]*|[ \t]+[-–—−]{1,3}[ \t]+)"
_TIMES = re.compile(rf"[ \t]*{_TIME}{_ARROW}{_TIME}(?!\d)(.*)", re.DOTALL)
# A line of times that breaks off, as a file does that was not written to its end.
_CUT_SHORT = re.compile(
    r"[ \t]*\d{1,6}:\d{1,2}[\d:.,;]*[ \t]*(?:[-–—−]{0,3}>?[ \t]*[\d:.,;]*)[ \t]*$"
)
_SETTINGS = re.compile(r"(?:line|position|align|size|vertical):\S+")
# Where a cue stands on the screen, as some programs write it: `X1:10`, `L:50%`, `D:vertical`.
_COORDINATE = re.compile(r"[A-Za-z]\w*:\S+")
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
_OVERRIDES = {
    "pos": "position",
    "move": "position",
    "fad": "fading",
    "k": "times inside the cue",
    "a": "position",
}
# As in HTML, which writers of SRT have in mind.
_SYNONYMS = {"em": "i", "strong": "b"}
# Neither holds what begins another one: each that is never closed would be read to the end.
_TAG = re.compile(
    r"<(/?)(b|i|u|s|font|c|v|lang|ruby|rt|em|strong|p|span|div|strike|del|a|small|big|sub|sup|center)\b[^<>\n]*>"
    r"|\{\\[^{}\n]*\}",
    re.IGNORECASE,
)
_FOREIGN: tuple[tuple[str, re.Pattern[str], str], ...] = (
    ("line breaks were written as in HTML", re.compile(r"<br[ ]*/?>\n?", re.IGNORECASE), "\n"),
    ("line breaks or spaces were written with a backslash", re.compile(r"\\N\n?"), "\n"),
    ("line breaks or spaces were written with a backslash", re.compile(r"\\h"), " "),
    ("styles were written in braces", re.compile(r"\{(/?[biu])\}", re.IGNORECASE), r"<\1>"),
    ("styles were written in braces", re.compile(r"\{y:([biu])\}", re.IGNORECASE), r"<\1>"),
)
_ENTITY = re.compile(r"&(?:amp|lt|gt|quot|apos|nbsp|#39|#34|lrm|rlm|hellip|ndash|mdash);")


def write_srt(cues: Iterable[Cue], *, first: int = 1) -> str:
    """The whole file, or what goes on with one. SRT has no escapes: an arrow in the text is written
    as one character.

    Args:
        cues: by start.
        first: the number of the first of them.
    """
    return "".join(_block(number, cue) for number, cue in enumerate(cues, first))


def read_srt(text: str) -> Subtitles:
    r"""The cues of SRT text in the order they stand.

    Numbers may be missing or wrong, blank lines more or fewer, hours missing or over 99, the comma
    a dot, the arrow short. Bold, italics, underlining, font colours and places by `{\\anN}` are
    kept; what else is dropped is told.
    """
    # Files that were joined have a mark in the middle.
    lines = with_line_feeds(text).replace("\ufeff", "").split("\n")
    found = Subtitles()
    headings = _headings(lines)
    if headings:
        head = [line for line in lines[: headings[0].top] if line.strip()]
        if head:
            what = "text before the first cue was left out"
            found.remarks.append(Remark(what, excerpt_of(head[0]), "a number and times", 1))
    for at, heading in enumerate(headings):
        is_last = at + 1 == len(headings)
        bottom = len(lines) if is_last else headings[at + 1].top
        payload = lines[heading.start + 1 : bottom]
        if heading.text:
            payload.insert(0, heading.text)
        place = (heading.start + 1, len(found.cues) + 1, max(0.0, heading.begin))
        if is_last:
            payload, cut_off = _without_rest(payload, heading.number + 1)
            if cut_off:
                what = "a cue at the end is not complete and was left out"
                found.remarks.append(
                    Remark(what, excerpt_of(cut_off), "a number, times and text", len(lines)),
                )
        if heading.end <= 0.0 and heading.begin < 0.0:
            text_of_it = excerpt_of(" ".join(payload))
            found.remarks.append(
                Remark(
                    "a cue with a negative time was left out",
                    text_of_it,
                    "a time from 0 on",
                    *place,
                )
            )
            continue
        # Numbers are told by the one before, so that one gap is one remark.
        before = headings[at - 1].number if at else 0
        found.remarks += heading.remarks(lines, before, place)
        said = _untagged("\n".join(line for line in payload if line.strip()))
        found.remarks += [
            Remark(f"dropped: {kind}", example, "", *place)
            for kind, example in said.dropped.items()
        ]
        found.remarks += [
            Remark(what, example, "plain text", *place) for what, example in said.repaired.items()
        ]
        # After the tags are gone, as their places count in what is shown.
        kept, marks = lines_with_marks(said.shown, said.spans)
        begin = max(0.0, heading.begin)
        settings = said.settings or heading.settings
        found.cues.append(Cue(begin, max(begin, heading.end), kept, marks=marks, settings=settings))
    mend_times(found)
    return found


@dataclass(frozen=True, slots=True)
class _Heading:
    """What stands above a cue's text.

    Attributes:
        top, start: the lines of its number, or its times where it has none, and of its times.
        label: what stands where the number should; empty for nothing.
        number: it, or one more than the one above.
        begin, end: seconds.
        rest: what stands behind the times.
    """

    top: int
    start: int
    label: str
    number: int
    begin: float
    end: float
    rest: str

    @property
    def text(self) -> str:
        """The cue's first line, where it stands behind the times; empty where nothing of it
        does.
        """
        if all(_COORDINATE.fullmatch(part) for part in self._others):
            return ""
        return " ".join(self._others)

    @property
    def _others(self) -> list[str]:
        """What stands behind the times and is no setting."""
        return [part for part in self.rest.split() if not _SETTINGS.fullmatch(part)]

    @property
    def settings(self) -> str:
        """WebVTT settings behind the times, as some programs write them."""
        return " ".join(part for part in self.rest.split() if _SETTINGS.fullmatch(part))

    def remarks(
        self, lines: Sequence[str], before: int, place: tuple[int, int, float]
    ) -> Iterator[Remark]:
        """What is not as players want it; `before` is the number of the cue above."""
        written = lines[self.start].strip()
        if not self.label:
            yield Remark("a cue has no number", "", str(before + 1), *place)
        elif not self.label.isdecimal():
            yield Remark(
                "a cue has a name in place of its number",
                excerpt_of(self.label),
                str(before + 1),
                *place,
            )
        elif self.number != before + 1:
            yield Remark("cues are not numbered one by one", self.label, str(before + 1), *place)
        if self.top + 1 < self.start:
            yield Remark(
                "blank lines stand between a cue's number and its times", "", "none", *place
            )
        if self.top > 0 and lines[self.top - 1].strip() and place[1] > 1:
            above = excerpt_of(lines[self.top - 1])
            yield Remark("no blank line stands before a cue", above, "a blank line", *place)
        if not _STRICT.match(lines[self.start]):
            yield Remark("times are not written as usual", written, _AS_WRITTEN, *place)
        if self.begin < 0.0:
            yield Remark("a cue began before 0", written, "a time from 0 on", *place)
        if self.end < self.begin:
            yield Remark("a cue ended before it began", written, "an end after its start", *place)
        yield from self._remarks_of_rest(place)

    def _remarks_of_rest(self, place: tuple[int, int, float]) -> Iterator[Remark]:
        if self.text:
            what = "text stands behind a cue's times"
            yield Remark(what, excerpt_of(self.text), "a line of its own", *place)
        elif self._others:
            yield Remark("dropped: coordinates", " ".join(self._others), "", *place)


def _headings(lines: Sequence[str]) -> list[_Heading]:
    """Where cues begin."""
    found: list[_Heading] = []
    for start, line in enumerate(lines):
        times = _times_in(line)
        if times is None:
            continue
        before = found[-1].number if found else 0
        above = found[-1].start if found else -1
        top, label = _label_above(lines, start, above, before)
        # A longer number is none that anybody has counted to.
        if label.isdecimal() and len(label) < 10:
            number = int(label)
        else:
            number = before + 1
        begin, end = _signed(times.groups()[:5]), _signed(times.groups()[5:10])
        found.append(_Heading(top, start, label, number, begin, end, times[11].strip()))
    return found


def _times_in(line: str) -> re.Match[str] | None:
    """The times on a line, in digits of any width."""
    # Digits and colons in their wide forms, as East Asian keyboards give them.
    if not line.isascii() and ("：" in line or "０" in line):
        line = unicodedata.normalize("NFKC", line)
    return _TIMES.match(line)


def _label_above(lines: Sequence[str], start: int, above: int, before: int) -> tuple[int, str]:
    """The line of what stands for a cue's number above its times, and what it says.

    Args:
        lines: of the file.
        start: where the times stand.
        above: where those of the cue above stand; -1 for none.
        before: the number of the cue above.
    """
    at = start - 1
    if at <= above:
        return start, ""
    label = lines[at].strip()
    if label.isdecimal():
        return at, label
    if label:
        # Players take one line by itself above the times for the cue's name.
        is_alone = at == 0 or (not lines[at - 1].strip() and at - 1 > above)
        if is_alone:
            return (at, label)
        return (start, "")
    # A blank line between number and times, which some programs write.
    while at > above and not lines[at].strip():
        at -= 1
    label = lines[at].strip() if at > above else ""
    is_number = label == str(before + 1) and (at == 0 or not lines[at - 1].strip())
    if is_number:
        return (at, label)
    return (start, "")


def _without_rest(payload: Sequence[str], following: int) -> tuple[list[str], str]:
    """The lines of the last cue, without the beginning of one that is not complete, and that
    beginning.
    """
    kept = list(payload)
    while kept and not kept[-1].strip():
        kept.pop()
    cut: list[str] = []
    if kept and _CUT_SHORT.match(kept[-1]) and len(kept) > 1 and kept[-2].strip() == str(following):
        cut = [kept.pop()]
    if (
        kept
        and kept[-1].strip() == str(following)
        and (cut or (len(kept) > 1 and not kept[-2].strip()))
    ):
        cut.insert(0, kept.pop().strip())
    if cut:
        return (kept, " ".join(cut))
    return (list(payload), "")


def _signed(parts: tuple[str | None, ...]) -> float:
    """Seconds of a time with its sign."""
    seconds = seconds_of(parts[1:])
    if parts[0]:
        return -seconds
    return seconds


def seconds_of(parts: tuple[str | None, ...]) -> float:
    """From hours, minutes, seconds and fraction."""
    hours, minutes, seconds, fraction = parts
    whole = (int(hours or 0) * 60 + int(minutes or 0)) * 60 + int(seconds or 0)
    return round(whole + float(f"0.{fraction or 0}"), 3)


@dataclass(slots=True)
class _Text:
    """A cue's text without its tags.

    Attributes:
        shown: what is read.
        spans: what is marked in it, in the order in which it begins.
        settings: WebVTT's, of the place that the text asks for.
        dropped: what is not kept: its kind, and the first of it as it stands.
        repaired: the same of what was not as SRT has it.
    """

    shown: str = ""
    spans: list[Span] = field(default_factory=list)
    settings: str = ""
    dropped: dict[str, str] = field(default_factory=dict)
    repaired: dict[str, str] = field(default_factory=dict)


def _untagged(text: str) -> _Text:
    found, at = _Text(), 0
    parts: list[str] = []  # of what is shown; one text that grows would be copied again and again
    length = 0
    text = _with_plain_breaks(text, found)
    tags = _OpenTags(found, len(text))
    is_drawing = False  # what follows are coordinates of a shape, and no text
    for tag in _TAG.finditer(text):
        if not is_drawing:
            parts.append(text[at : tag.start()])
            length += len(parts[-1])
        at = tag.end()
        # An override in braces, which has no end.
        if tag[2] is None:
            _take_override(tag[0], found, tags, length)
            # `\p1` begins a drawing, `\p0` ends it.
            if drawing := re.search(r"\\p(\d)", tag[0]):
                is_drawing = drawing[1] != "0"
            continue
        name = _SYNONYMS.get(tag[2].lower(), tag[2].lower())
        if tag[1]:
            tags.close(name, length)
        else:
            tags.open(name, tag[0], length)
    if not is_drawing:
        parts.append(text[at:])
    found.shown = "".join(parts)
    found.spans = [span for span in found.spans if span[2]]
    return found


@dataclass(slots=True)
class _OpenTags:
    """Tags that are open, and the spans that they make.

    Attributes:
        found: the text, with its spans.
        end: of the text, to which a tag reaches that nobody closes.
    """

    found: _Text
    end: int
    _places: dict[str, list[int]] = field(default_factory=dict)  # in spans, by name

    def close(self, name: str, length: int) -> None:
        """A tag ends."""
        number = _NO_SPAN
        if self._places.get(name):
            number = self._places[name].pop()
        if number != _NO_SPAN:
            first, _, mark = self.found.spans[number]
            self.found.spans[number] = (first, length, mark)

    def open(self, name: str, written: str, length: int) -> None:
        """A tag begins. What is bold is not made bolder, and tags that nobody closes must not pile
        up over a long text.
        """
        places = self._places.setdefault(name, [])
        if name in STYLES:
            is_more = bool(places)
        else:
            is_more = sum(map(len, self._places.values())) >= DEEPEST
        if is_more:
            places.append(_NO_SPAN)
            return
        mark = name if name in STYLES else None
        if name == "font":
            mark = _colour_in(written)
        if mark is None:
            self.found.dropped.setdefault(_KINDS.get(name, "style"), written)
        places.append(len(self.found.spans))
        self.found.spans.append((length, self.end, mark or ""))


def _with_plain_breaks(text: str, found: _Text) -> str:
    """The text with line breaks, spaces and characters that are written as in other formats."""
    for what, pattern, instead in _FOREIGN:
        if example := pattern.search(text):
            found.repaired.setdefault(what, example[0])
            text = pattern.sub(instead, text)
    if entity := _ENTITY.search(text):
        found.repaired.setdefault("characters were written as in HTML", entity[0])
        text = _ENTITY.sub(lambda one: html.unescape(one[0]), text)
    return text


def _colour_in(tag: str) -> str | None:
    """The mark of a font's colour; None where the tag has none."""
    if re.search(r"\b(?:face|size)\s*=", tag, re.IGNORECASE) and "color" not in tag.lower():
        return None
    colour = re.search(r"""\bcolor\s*=\s*("[^"]*"|'[^']*'|[^\s>]+)""", tag, re.IGNORECASE)
    if colour:
        return colour_mark(colour[1])
    return None


def _take_override(tag: str, found: _Text, tags: "_OpenTags", length: int) -> None:
    """Take a tag in braces: a place, a style or colour, or something that only other formats
    have.
    """
    for part in map(str.strip, tag.strip("{}").split("\\")[1:]):
        if place := re.fullmatch(r"an([1-9])", part):
            found.settings = found.settings or settings_of_keypad(int(place[1]))
        elif style := re.fullmatch(r"([biu])(\d+)", part):
            # `\b0` ends what is bold, and `\b700` is a weight.
            if int(style[2]):
                tags.open(style[1], tag, length)
            else:
                tags.close(style[1], length)
        elif colour := re.fullmatch(r"1?c(?:&H([0-9A-Fa-f]{6})&?)?", part):
            tags.close("font", length)
            if colour[1]:
                blue, green, red = colour[1][:2], colour[1][2:4], colour[1][4:]
                tags.open("font", f'<font color="#{red}{green}{blue}">', length)
        elif part:
            name = re.match(r"[a-z]+", part)
            kind = _OVERRIDES.get(name[0] if name else "", "override")
            found.dropped.setdefault(kind, tag)


def _block(number: int, cue: Cue) -> str:
    text = "\n".join(marked_lines(cue, _escaped, _tags_of))
    place = keypad_of_settings(cue.settings) if cue.settings else 2
    if place != 2:
        text = f"{{\\an{place}}}{text}"
    return (
        f"{number}\n{clock(cue.start, separator=',')} --> "
        f"{clock(cue.end, separator=',')}\n{text}\n\n"
    )


def _escaped(text: str) -> str:
    # SRT has no escapes, and readers would take it for times.
    return text.replace("-->", "→")


def _tags_of(tag: str) -> tuple[str, str] | None:
    if tag in STYLES:
        return f"<{tag}>", f"</{tag}>"
    colour = colour_of(tag)
    if colour:
        return (f'<font color="{colour}">', "</font>")
    return None
