"""Reading SRT and WebVTT, as they occur in the wild."""

import html
import re
from collections.abc import Iterator
from itertools import pairwise

from mantisreed.subtitles.cues import Cue

_TIME = r"(?:(\d+):)?(\d{1,2}):(\d{1,2})[.,](\d{1,3})"
_TIMES = re.compile(rf"\s*{_TIME}\s*-->\s*{_TIME}")
_TAG = re.compile(r"<[^>\n]*>")
_VOICE = re.compile(r"<v(?:\.[^\s>]*)?[ \t]+([^>]*)>")


def read_srt(text: str) -> list[Cue]:
    """The cues of SRT text, in the order they stand. Numbers may be missing or wrong, blank lines more or fewer."""
    return list(_cues(text, numbered=True))


def read_vtt(text: str) -> list[Cue]:
    """The cues of WebVTT text, with the voice of each as its speaker; notes, styles and regions are passed over."""
    return list(_cues(text, numbered=False))


def _cues(text: str, *, numbered: bool) -> Iterator[Cue]:
    lines = text.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n").split("\n")
    starts = [number for number, line in enumerate(lines) if _TIMES.match(line)]
    for start, following in pairwise([*starts, len(lines)]):
        times = _TIMES.match(lines[start])
        assert times is not None
        payload = lines[start + 1 : following]
        if following < len(lines):
            payload = _without_head_of_next(payload, numbered=numbered)
        if "" in payload:
            payload = payload[: payload.index("")]
        begin, end = _seconds(times.groups()[:4]), _seconds(times.groups()[4:])
        voice = _VOICE.search("\n".join(payload))
        shown = tuple(html.unescape(_TAG.sub("", line)).strip() for line in payload)
        speaker = html.unescape(voice[1]).strip() if voice else None
        yield Cue(begin, max(begin, end), tuple(line for line in shown if line), speaker)


def _without_head_of_next(payload: list[str], *, numbered: bool) -> list[str]:
    """Without the next cue's number (or identifier after a blank line), which stands before its times."""
    if not payload:
        return payload
    is_number = payload[-1].strip().isdigit() and numbered
    after_blank = len(payload) > 1 and payload[-2] == ""
    return payload[:-1] if is_number or after_blank else payload


def _seconds(parts: tuple[str | None, ...]) -> float:
    hours, minutes, seconds, fraction = parts
    whole = (int(hours or 0) * 60 + int(minutes or 0)) * 60 + int(seconds or 0)
    return whole + int((fraction or "0").ljust(3, "0")) / 1000
