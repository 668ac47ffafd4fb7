"""WebVTT, after https://www.w3.org/TR/webvtt1/: a writer, and a reader that follows its parsing
algorithm.
"""

import html
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise

from mantisreed.formats.cue_times import mend_times
from mantisreed.formats.decoding import with_line_feeds
from mantisreed.formats.srt import seconds_of
from mantisreed.formats.vtt_writing import SPACES
from mantisreed.subtitles.cues import Cue, Subtitles
from mantisreed.subtitles.marking import (
    DEEPEST,
    Span,
    lines_with_marks,
    spans_in_parts,
)
from mantisreed.subtitles.remarks import Remark, excerpt_of
from mantisreed.subtitles.voices import joined_voices
from mantisreed.transcript.document import Word
from mantisreed.units import clock

_STRICT = r"(?:(\d{2,}):)?([0-5]\d):([0-5]\d)\.(\d{3})"
_LOOSE = r"(?:(\d+):)?(\d{1,2}):(\d{1,2})(?:[.,](\d{1,3}))?"
_TIMES = re.compile(rf"[ \t\f]*{_STRICT}[ \t\f]*-->[ \t\f]*{_STRICT}(?:[ \t\f]+(.*))?[ \t\f]*$")
_LOOSE_TIMES = re.compile(rf"\s*{_LOOSE}\s*-->\s*{_LOOSE}(?:\s*([^\s\d].*))?\s*$")
_AS_WRITTEN = "hh:mm:ss.mmm --> hh:mm:ss.mmm"
_STAMP = re.compile(rf"{_LOOSE}$")
_PIECE = re.compile(r"<([^>]*)(>|$)|[^<]+", re.DOTALL)
# One that begins no character reference.
_BARE_AMPERSAND = re.compile(r"&(?!#\d+;|#[xX][0-9a-fA-F]+;|[a-zA-Z][a-zA-Z0-9]*;)")
_BLOCK = re.compile(r"(STYLE|REGION)[ \t]*$")
_TAGS = ("b", "i", "u", "c", "v", "lang", "ruby", "rt")

_PERCENT = r"(?:100(?:\.0+)?|\d{1,2}(?:\.\d+)?)%"
_SIDES = f"{_PERCENT},{_PERCENT}"
_SETTINGS = {
    "vertical": ("rl|lr", "rl or lr"),
    "line": (rf"(?:{_PERCENT}|-?\d+)(?:,(?:start|center|end))?", "a number or N%"),
    "position": (rf"{_PERCENT}(?:,(?:line-left|center|line-right))?", "N%"),
    "size": (_PERCENT, "N%"),
    "align": ("start|center|end|left|right", "start, center, end, left or right"),
    "region": (r"\S+", "a region's id"),
}
_REGION = {
    "id": (r"\S+", "a name"),
    "width": (_PERCENT, "N%"),
    "lines": (r"\d+", "a number"),
    "regionanchor": (_SIDES, "N%,N%"),
    "viewportanchor": (_SIDES, "N%,N%"),
    "scroll": ("up", "up"),
}
"""What a setting's value may be, as a pattern and for people."""


def read_webvtt(text: str) -> Subtitles:
    """What WebVTT text holds: cues with their voices as speakers, their settings and marks; styles
    and regions.

    Where the standard would drop a cue or a line silently that other tools write, it is taken, with
    a remark.
    """
    return _VttParser(with_line_feeds(text)).parsed()


class _VttParser:
    """Section 6.1 of the standard."""

    def __init__(self, text: str) -> None:
        self._lines = text.split("\n")
        self._found = Subtitles()
        self._regions: set[str] = set()
        self._place = (1, 0, 0.0)  # line, cue and its start

    def parsed(self) -> Subtitles:
        at = 0
        first = self._lines[0]
        # It is read all the same; a browser would show nothing.
        if not re.match(r"WEBVTT(?:[ \t]|$)", first):
            self._remark("the first line is not WEBVTT", excerpt_of(first), "WEBVTT")
        else:
            at = 1
            while at < len(self._lines) and self._lines[at] and "-->" not in self._lines[at]:
                self._place = (at + 1, 0, 0.0)
                self._remark(
                    "a line of the header was left out",
                    excerpt_of(self._lines[at]),
                    "a blank line",
                )
                at += 1
        while at < len(self._lines):
            at = self._take_block(at)
        mend_times(self._found)
        return self._found

    def _remark(self, what: str, found: str = "", allowed: str = "") -> None:
        self._found.remarks.append(Remark(what, found, allowed, *self._place))

    def _take_block(self, at: int) -> int:
        """Take what stands at a line; where the next block may begin."""
        lines, begin = self._lines, at
        if not lines[at].strip():
            return at + 1
        arrow = None
        # A block ends with a line that is empty; one of blanks does not end it (6.1).
        while at < len(lines) and lines[at]:
            if "-->" in lines[at]:
                if arrow is not None:
                    break
                arrow = at
            at += 1
        self._place = (begin + 1, 0, 0.0)
        end = at
        if arrow is None:
            self._loose_block(lines[begin:end])
            return at
        if at < len(lines) and lines[at]:  # another cue's times
            if at - 1 > arrow and lines[at - 1].strip().isdecimal():
                at = end = at - 1
            self._place = (at + 1, len(self._found.cues) + 2, 0.0)
            self._remark("no blank line stands before a cue", excerpt_of(lines[at]), "a blank line")
        self._cue_block(begin, arrow, end)
        return at

    def _loose_block(self, block: list[str]) -> None:
        kind = _BLOCK.match(block[0])
        if kind is None:
            if not re.match(r"NOTE(?:[ \t]|$)", block[0]):
                self._remark(
                    "text without a time was left out",
                    excerpt_of(" ".join(block)),
                    "times, or NOTE",
                )
            # Behind a cue there is no place for it in what we write.
            elif self._found.cues:
                self._remark("a comment between cues was left out", excerpt_of(" ".join(block)[4:]))
            else:
                self._found.head.append("\n".join(block))
            return
        if self._found.cues:
            self._remark(
                "styles or a region stand behind the first cue",
                block[0].strip(),
                "before all cues",
            )
        if kind[1] == "STYLE":
            self._found.head.append("\n".join(block))
            return
        options = self._valid(
            _REGION, " ".join(block[1:]).split(), "a region's setting makes no sense"
        )
        if "id" not in options:
            self._remark(
                "a region without a name was left out",
                excerpt_of(" ".join(block[1:])),
                "id:NAME",
            )
            return
        self._regions.add(options["id"])
        self._found.head.append(
            "\n".join(["REGION", *(f"{name}:{value}" for name, value in options.items())])
        )

    def _valid(
        self, known: dict[str, tuple[str, str]], given: Iterable[str], complaint: str
    ) -> dict[str, str]:
        """Section 6.2 and 4.4: settings that are understood; the last one of a name holds."""
        valid = {}
        for setting in given:
            name, colon, value = setting.partition(":")
            pattern, allowed = known.get(name, ("", ", ".join(known)))
            if colon and name in known and re.fullmatch(pattern, value):
                valid[name] = value
            else:
                self._remark(complaint, setting, allowed)
        return valid

    def _cue_block(self, begin: int, arrow: int, end: int) -> None:
        lines = self._lines
        if arrow > begin + 1:
            self._remark(
                "text without a time was left out",
                excerpt_of(lines[begin]),
                "times, or NOTE",
            )
        written = lines[arrow].strip()
        strict = _TIMES.match(lines[arrow])
        times = strict or _LOOSE_TIMES.match(lines[arrow])
        if times is None:
            self._place = (arrow + 1, 0, 0.0)
            lost = f"{written} {' '.join(lines[arrow + 1 : end])}"
            self._remark("a cue's times could not be read", excerpt_of(lost), _AS_WRITTEN)
            return
        start, stop = seconds_of(times.groups()[:4]), seconds_of(times.groups()[4:8])
        self._place = (arrow + 1, len(self._found.cues) + 1, start)
        if strict is None:
            self._remark("times are not written as the standard wants", written, _AS_WRITTEN)
        if stop <= start:
            self._remark("a cue does not end after it begins", written, "an end after its start")
        settings = self._valid(
            _SETTINGS, (times[9] or "").split(), "a cue's setting makes no sense"
        )
        # A browser passes over it, and the cue stands where others do.
        if "region" in settings and settings["region"] not in self._regions:
            self._remark(
                "a cue names a region that is not there",
                f"region:{settings.pop('region')}",
                "a region's id",
            )
        name = lines[begin].strip() if arrow > begin else ""
        cue = Cue(
            start,
            max(start, stop),
            (),
            settings=" ".join(f"{key}:{value}" for key, value in settings.items()),
            name=name,
        )
        self._found.cues.append(self._with_text(cue, "\n".join(lines[arrow + 1 : end])))

    def _with_text(self, cue: Cue, payload: str) -> Cue:
        """Sections 6.4 and 6.5: the text without its tags, what they mark, the voices, inner
        timestamps as words.
        """
        text = _CueText(self._remark, cue)
        for piece in _PIECE.finditer(payload):
            tag = piece[1]
            if tag is None:
                text.show(piece[0])
                continue
            if not piece[2]:
                self._remark("a tag does not end", excerpt_of(piece[0]), ">")
            name = re.split(r"[.\s]", tag.removeprefix("/"), maxsplit=1)[0]
            if stamp := _STAMP.match(tag.strip()):
                text.stamp(seconds_of(stamp.groups()), tag.strip())
            elif name not in _TAGS:
                self._remark(
                    "a tag is not known and was left out",
                    excerpt_of(piece[0]),
                    "b, i, u, c, v, lang, ruby, rt",
                )
            elif tag.startswith("/"):
                text.close(name)
            else:
                text.open(name, tag)
        return text.whole()


@dataclass(slots=True)
class _CueText:
    """The text of a cue as it is read.

    Attributes:
        remark: told what is odd: what, what was found, what is allowed.
        cue: its times.
        shown: the text so far.
        stamps: moments, each with its place in the text.
        voices: names of who speaks, each with its place.
        spans: what tags mark: from, to (None while they are open), the tag.
        inside: names of open tags, and their places in spans.
    """

    remark: Callable[[str, str, str], None]
    cue: Cue
    shown: str = ""
    stamps: list[tuple[float, int]] = field(default_factory=list)
    voices: list[tuple[str | None, int]] = field(default_factory=list)
    spans: list[tuple[int, int | None, str]] = field(default_factory=list)
    inside: list[tuple[str, int]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.stamps.append((self.cue.start, 0))

    def show(self, written: str) -> None:
        """Text, with what is escaped in it."""
        if _BARE_AMPERSAND.search(written):
            self.remark("an ampersand is not escaped", excerpt_of(written), "&amp;")
        self.shown += html.unescape(written)

    def stamp(self, moment: float, written: str) -> None:
        """The moment from which what follows is said."""
        latest = self.stamps[-1][0]
        if not latest < moment < self.cue.end:
            allowed = f"a time between {clock(latest)} and {clock(self.cue.end)}"
            self.remark("a time inside a cue is out of order", written, allowed)
        self.stamps.append((moment, len(self.shown)))

    def open(self, name: str, tag: str) -> None:
        """A tag begins."""
        if name == "v":
            # With a class, `v.loud Name`, the name is all behind the first space.
            annotation = " ".join(tag.split(None, 1)[1:])
            if tag.startswith("v."):
                annotation = tag.partition(" ")[2]
            speaker = SPACES.sub(" ", html.unescape(annotation)).strip()
            self.voices.append((speaker or None, len(self.shown)))
        if len(self.inside) >= DEEPEST:
            what = "tags are nested too deeply, and one was left out"
            self.remark(what, f"<{excerpt_of(tag)}>", str(DEEPEST))
            return
        self.inside.append((name, len(self.spans)))
        self.spans.append((len(self.shown), None, SPACES.sub(" ", tag).strip()))

    def close(self, name: str) -> None:
        """A tag ends, and with it all that began inside of it."""
        if all(open_name != name for open_name, _ in self.inside):
            self.remark("an end tag has no beginning", f"</{name}>", "none")
            return
        open_name = ""
        while open_name != name:
            open_name, at = self.inside.pop()
            first, _, tag = self.spans[at]
            self.spans[at] = (first, len(self.shown), tag)
            # `</ruby>` ends the `<rt>` in it too (WebVTT, 6.4).
            if open_name != name and not (open_name == "rt" and name == "ruby"):
                what = "tags end in another order than they begin"
                self.remark(what, f"</{name}>", f"</{open_name}>")

    def whole(self) -> Cue:
        """The cue that it makes."""
        for name, at in self.inside:
            first, _, tag = self.spans[at]
            # A voice may last to the end of the cue without an end tag.
            if name != "v" or first > 0:
                self.remark("a tag is not closed", f"<{excerpt_of(tag)}>", f"</{name}>")
        # A `c` without a class behind a time is there for players (`vtt_writing.py`), and marks
        # nothing.
        timed = {(place, "c") for _, place in self.stamps[1:]}
        marking = [span for span in self.spans if (span[0], span[2]) not in timed]
        closed = [
            (first, len(self.shown) if last is None else last, tag)
            for first, last, tag in marking
            if not re.match(r"v(?:[.\s]|$)", tag)
        ]
        return _of_voices(self.cue, self.shown, closed, self.stamps, self.voices)


def _of_voices(
    cue: Cue,
    shown: str,
    spans: Sequence[Span],
    stamps: list[tuple[float, int]],
    voices: Sequence[tuple[str | None, int]],
) -> Cue:
    """The cue with its text; with whose each line is, where several voices are in it."""
    named: list[tuple[str | None, int]] = [(voice, at) for voice, at in voices if voice]
    if not named:
        named = [(None, 0)]
    # One voice that is named several times is one speaker.
    if len({voice for voice, _ in named}) == 1:
        del named[1:]
    edges = [0, *(at for _, at in named[1:]), len(shown)]
    name = cue.name
    found: list[Cue] = []
    parts = list(pairwise(edges))
    inside = spans_in_parts(spans, parts)
    for (voice, _), (first, last), own in zip(named, parts, inside, strict=True):
        lines, marks = lines_with_marks(shown[first:last], _spans_within(own, first, last))
        words, stamped = _words_within(cue, shown, stamps, first, last)
        if lines or len(named) == 1:
            part = replace(cue, lines=lines, speaker=voice, words=words, marks=marks, name=name)
            found.append(replace(part, inner=stamped if words else None))
    return joined_voices(found) if found else replace(cue, speaker=named[0][0])


def _spans_within(spans: Iterable[Span], first: int, last: int) -> list[Span]:
    """Spans as they are in a part of the text."""
    return [
        (max(0, begin - first), min(end, last) - first, tag)
        for begin, end, tag in spans
        if begin < last and end > first
    ]


def _words_within(
    cue: Cue, shown: str, stamps: Sequence[tuple[float, int]], first: int, last: int
) -> tuple[tuple[Word, ...], tuple[int, ...]]:
    """The words of a part of the text, and which of them have a time of their own; none where no
    time stands in the cue.
    """
    if len(stamps) < 2:
        return (), ()
    inner = [(moment, at - first) for moment, at in stamps if first < at < max(last, first + 1)]
    before = max((moment for moment, at in stamps if at <= first), default=cue.start)
    return _words(shown[first:last], [(before, 0), *inner], cue.end)


def _words(
    shown: str, stamps: list[tuple[float, int]], end: float
) -> tuple[tuple[Word, ...], tuple[int, ...]]:
    """The words between inner timestamps, each stretch's time shared among its words by length.

    Returns:
        the words, and which of them a timestamp stands before.
    """
    words: list[Word] = []
    stamped: list[int] = []
    for (begin, first), (until, last) in zip(stamps, [*stamps[1:], (end, len(shown))], strict=True):
        texts = shown[first:last].split()
        letters = sum(map(len, texts)) or 1
        if first > 0 and texts:
            stamped.append(len(words))
        at = begin
        for text in texts:
            length = max(0.0, until - begin) * len(text) / letters
            words.append(Word(text, round(at, 3), round(at + length, 3)))
            at += length
    return tuple(words), tuple(stamped)
