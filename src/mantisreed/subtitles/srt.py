"""SubRip text (SRT): numbered cues, times as `hh:mm:ss,mmm`."""

from collections.abc import Iterable

from mantisreed.subtitles.cues import Cue
from mantisreed.units import clock


def write_srt(cues: Iterable[Cue]) -> str:
    """The whole file. SRT has no escapes, so an arrow inside the text is written as one character."""
    return "".join(_block(number, cue) for number, cue in enumerate(cues, 1))


def _block(number: int, cue: Cue) -> str:
    text = "\n".join(line.replace("-->", "→") for line in cue.lines)
    return f"{number}\n{clock(cue.start, separator=',')} --> {clock(cue.end, separator=',')}\n{text}\n\n"
