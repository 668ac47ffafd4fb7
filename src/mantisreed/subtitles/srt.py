"""SubRip text (SRT): numbered cues, times as `hh:mm:ss,mmm`."""

import re
from collections.abc import Iterable
from itertools import pairwise

from mantisreed.subtitles.cues import Cue
from mantisreed.units import clock

TIME = r"(?:(\d+):)?(\d{1,2}):(\d{1,2})(?:[.,:](\d{1,3}))?"
_TIMES = re.compile(rf"\s*{TIME}\s*-{{1,2}}>\s*{TIME}")
_TAG = re.compile(r"</?(?:b|i|u|s|font|c|v|lang|ruby|rt)\b[^>\n]*>|\{\\[^}\n]*\}", re.IGNORECASE)
_DASH = re.compile(r"[-–—]\s?(?=\S)")


def write_srt(cues: Iterable[Cue]) -> str:
    """The whole file. SRT has no escapes, so an arrow inside the text is written as one character."""
    return "".join(_block(number, cue) for number, cue in enumerate(cues, 1))


def read_srt(text: str) -> tuple[list[Cue], list[str]]:
    """The cues of SRT text in the order they stand, and what was mended.

    Numbers may be missing or wrong, blank lines more or fewer, hours missing or over 99, the comma a dot, the arrow
    short; marks of style are left out.
    """
    lines = text.split("\n")
    starts = [number for number, line in enumerate(lines) if _TIMES.match(line)]
    notes: list[str] = []
    head = [line for line in lines[: starts[0] if starts else len(lines)] if line.strip()]
    if head and head[-1].strip().isdigit() and starts:
        head.pop()
    if head:
        notes.append(f"text before the first cue was left out: {head[0].strip()[:60]!r}")
    cues = []
    for start, following in pairwise([*starts, len(lines)]):
        times = _TIMES.match(lines[start])
        assert times is not None
        begin, end = seconds_of(times.groups()[:4]), seconds_of(times.groups()[4:])
        if end < begin:
            notes.append(f"a cue ended before it began, at {clock(begin)}")
        shown = _payload(lines[start + 1 : following], is_last=following == len(lines))
        bare = [_TAG.sub("", line).strip() for line in shown]
        if bare != [line.strip() for line in shown]:
            notes.append("marks of style were left out")
        cues.append(Cue(begin, max(begin, end), tuple(line for line in bare if line)))
    return cues, list(dict.fromkeys([*notes, *order_notes(cues)]))


def order_notes(cues: list[Cue]) -> list[str]:
    """What is odd about the order of cues."""
    notes = []
    if any(later.start < earlier.start for earlier, later in pairwise(cues)):
        notes.append("cues do not stand in the order of their times")
    if any(later.start < earlier.end for earlier, later in pairwise(sorted(cues, key=lambda cue: cue.start))):
        notes.append("cues overlap")
    return notes


def seconds_of(parts: tuple[str | None, ...]) -> float:
    """From hours, minutes, seconds and fraction."""
    hours, minutes, seconds, fraction = parts
    whole = (int(hours or 0) * 60 + int(minutes or 0)) * 60 + int(seconds or 0)
    return round(whole + int((fraction or "0").ljust(3, "0")) / 1000, 3)


def _payload(lines: list[str], *, is_last: bool) -> list[str]:
    """The text of a cue, without the number of the next one; blank lines inside it do not end it."""
    while lines and not lines[-1].strip():
        lines = lines[:-1]
    if lines and not is_last and lines[-1].strip().isdigit() and (len(lines) == 1 or not lines[-2].strip()):
        lines = lines[:-1]
    elif lines and not is_last and lines[-1].strip().isdigit() and len(lines) > 1:
        lines = lines[:-1]  # the blank line before the number is missing
    return [line for line in lines if line.strip()]


def _block(number: int, cue: Cue) -> str:
    text = "\n".join(line.replace("-->", "→") for line in cue.lines)
    return f"{number}\n{clock(cue.start, separator=',')} --> {clock(cue.end, separator=',')}\n{text}\n\n"
