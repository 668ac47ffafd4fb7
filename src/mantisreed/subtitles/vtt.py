"""WebVTT, after https://www.w3.org/TR/webvtt1/."""

from collections.abc import Iterable

from mantisreed.subtitles.cues import Cue
from mantisreed.units import clock

_ESCAPES = str.maketrans({"&": "&amp;", "<": "&lt;", ">": "&gt;"})


def write_webvtt(cues: Iterable[Cue]) -> str:
    """The whole file; `&`, `<` and `>` in the text are escaped, speakers are voice spans."""
    return "WEBVTT\n" + "".join(_block(cue) for cue in cues)


def _block(cue: Cue) -> str:
    text = "\n".join(line.translate(_ESCAPES) for line in cue.lines)
    if cue.speaker is not None:
        text = f"<v {cue.speaker.translate(_ESCAPES)}>{text}"
    return f"\n{clock(cue.start)} --> {clock(cue.end)}\n{text}\n"
