"""WebVTT, after https://www.w3.org/TR/webvtt1/: a writer, and a reader that follows its parsing algorithm."""

import html
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.srt import order_notes, seconds_of
from mantisreed.transcript.document import Word
from mantisreed.transcript.writing import needs_space
from mantisreed.units import clock

_ESCAPES = str.maketrans(
    {"&": "&amp;", "<": "&lt;", ">": "&gt;", "\u200e": "&lrm;", "\u200f": "&rlm;", "\xa0": "&nbsp;"}
)
_STRICT = r"(?:(\d{2,}):)?([0-5]\d):([0-5]\d)\.(\d{3})"
_LOOSE = r"(?:(\d+):)?(\d{1,2}):(\d{1,2})(?:[.,](\d{1,3}))?"
_TIMES = re.compile(rf"[ \t\f]*{_STRICT}[ \t\f]*-->[ \t\f]*{_STRICT}(?:[ \t\f]+(.*))?[ \t\f]*$")
_LOOSE_TIMES = re.compile(rf"\s*{_LOOSE}\s*-->\s*{_LOOSE}(?:\s+(.*))?$")
_STAMP = re.compile(rf"{_LOOSE}$")
_PIECE = re.compile(r"<([^>]*)(>|$)|[^<]+", re.DOTALL)
_SPACES = re.compile(r"[ \t\n\f]+")


def write_webvtt(cues: Iterable[Cue], *, inner_times: bool = False) -> str:
    """The whole file; `&`, `<` and `>` in the text are escaped, speakers are voice spans.

    Args:
        cues: by start.
        inner_times: put a timestamp before each word whose time is known, so that players can show words as spoken.
    """
    return "WEBVTT\n" + "".join(_block(cue, inner_times=inner_times) for cue in cues)


def read_webvtt(text: str) -> tuple[list[Cue], list[str]]:
    """The cues of WebVTT text, with the voice of each as its speaker, and what was mended or left out."""
    return _Parser(text).parsed()


@dataclass
class _Parser:
    """Section 6.1 of the standard; what it would drop silently, and other tools write, is taken and noted."""

    text: str
    notes: list[str] = field(default_factory=list)

    def parsed(self) -> tuple[list[Cue], list[str]]:
        lines = self.text.split("\n")
        at = 0
        if not re.match(r"WEBVTT(?:[ \t]|$)", lines[0]):
            self.notes.append("the first line is not WEBVTT")
        else:
            at = 1
            while at < len(lines) and lines[at] and "-->" not in lines[at]:
                at += 1  # the header
        cues = list(self._blocks(lines, at))
        return cues, list(dict.fromkeys([*self.notes, *order_notes(cues)]))

    def _blocks(self, lines: list[str], at: int) -> Iterator[Cue]:
        while at < len(lines):
            if not lines[at].strip():
                at += 1
                continue
            block: list[str] = []
            seen_arrow = False
            while at < len(lines) and lines[at]:
                if "-->" in lines[at]:
                    if seen_arrow:
                        break  # the blank line between two cues is missing
                    seen_arrow = True
                block.append(lines[at])
                at += 1
            yield from self._block(block, seen_arrow=seen_arrow)

    def _block(self, block: list[str], *, seen_arrow: bool) -> Iterator[Cue]:
        if not seen_arrow:
            first = block[0]
            if re.match(r"(STYLE|REGION)[ \t]*$", first):
                self.notes.append("styles and regions were left out")
            elif not re.match(r"NOTE(?:[ \t]|$)", first):
                self.notes.append(f"text without a time was left out: {first[:60]!r}")
            return
        arrow = next(number for number, line in enumerate(block) if "-->" in line)
        if arrow > 1:
            self.notes.append(f"text without a time was left out: {block[0][:60]!r}")
        times = _TIMES.match(block[arrow])
        if times is None and (times := _LOOSE_TIMES.match(block[arrow])):
            self.notes.append("times are not written as the standard wants")
        if times is None:
            self.notes.append(f"a cue's times could not be read: {block[arrow][:60]!r}")
            return
        begin, end = seconds_of(times.groups()[:4]), seconds_of(times.groups()[4:8])
        payload = "\n".join(block[arrow + 1 :])
        yield self._cue(begin, max(begin, end), payload)

    def _cue(self, begin: float, end: float, payload: str) -> Cue:
        """Sections 6.4 and 6.5: the text without its tags, the voice, and inner timestamps as words."""
        shown, stamps, voice = "", [(begin, 0)], None
        for piece in _PIECE.finditer(payload):
            tag = piece[1]
            if tag is None:
                shown += html.unescape(piece[0])
                continue
            if not piece[2]:
                self.notes.append(f"a tag does not end: {piece[0][:40]!r}")
            if stamp := _STAMP.match(tag.strip()):
                stamps.append((seconds_of(stamp.groups()), len(shown)))
            elif re.match(r"v(?:[.\s]|$)", tag):
                annotation = tag.split(None, 1)[1:] if not tag.startswith("v.") else tag.partition(" ")[2:]
                voice = voice or _SPACES.sub(" ", html.unescape("".join(annotation))).strip() or None
        lines = tuple(line.strip() for line in shown.split("\n") if line.strip())
        return Cue(begin, end, lines, voice, _words(shown, stamps, end) if len(stamps) > 1 else ())


def _words(shown: str, stamps: list[tuple[float, int]], end: float) -> tuple[Word, ...]:
    """The words between inner timestamps, each stretch's time shared among its words by length."""
    words = []
    for (begin, first), (until, last) in zip(stamps, [*stamps[1:], (end, len(shown))], strict=True):
        texts = shown[first:last].split()
        letters = sum(map(len, texts)) or 1
        at = begin
        for text in texts:
            length = max(0.0, until - begin) * len(text) / letters
            words.append(Word(text, round(at, 3), round(at + length, 3)))
            at += length
    return tuple(words)


def _block(cue: Cue, *, inner_times: bool) -> str:
    text = "\n".join(line.translate(_ESCAPES) for line in cue.lines)
    if inner_times and len(cue.words) > 1:
        text = _with_times(cue)
    if cue.speaker is not None:
        text = f"<v {_SPACES.sub(' ', cue.speaker).translate(_ESCAPES)}>{text}"
    return f"\n{clock(cue.start)} --> {clock(cue.end)}\n{text}\n"


def _with_times(cue: Cue) -> str:
    """The text with a timestamp before each word but the first, where it lies within the cue and grows."""
    rest, at, latest = "\n".join(cue.lines), 0, cue.start
    shown = ""
    for number, word in enumerate(cue.words):
        found = rest.find(word.text, at)
        if found < 0:
            continue
        shown += rest[at:found].translate(_ESCAPES)
        if number and round(latest, 3) < round(word.start, 3) < round(cue.end, 3):
            shown += f"<{clock(word.start)}>"
            latest = word.start
        shown += word.text.translate(_ESCAPES)
        at = found + len(word.text)
    return shown + rest[at:].translate(_ESCAPES)


def words_as_cues(cues: Iterable[Cue]) -> list[Cue]:
    """A cue for each word whose time is known; cues without such words stay whole."""
    single = []
    for cue in cues:
        texts = "".join(cue.lines)
        if not cue.words or not texts:
            single.append(cue)
            continue
        groups: list[list[Word]] = []
        for word in cue.words:
            if groups and not needs_space(groups[-1][-1].text, word.text):
                groups[-1].append(word)
            else:
                groups.append([word])
        single += [
            Cue(
                group[0].start,
                max(group[-1].end, group[0].start),
                ("".join(word.text for word in group),),
                cue.speaker,
            )
            for group in groups
        ]
    return single
