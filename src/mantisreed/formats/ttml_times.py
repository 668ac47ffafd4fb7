"""Times of TTML: clock times, offsets, frames and ticks (TTML2, 12.3)."""

import re
from collections.abc import Mapping

from mantisreed.subtitles.frames import seconds_of_drop_frame

# The standard has two digits for hours, a full stop and a colon; a semicolon before frames is how
# television writes that numbers of frames are left out, and some write commas.
_CLOCK = re.compile(r"(\d+):(\d\d):(\d\d)(?:[.,](\d+)|([:;])(\d{2,})(?:\.\d+)?)?$")
_OFFSET = re.compile(r"(\d+(?:\.\d+)?)(h|ms|m|s|f|t)$")
_USUAL_RATE = 30.0  # frames a second where nothing is said (TTML2, 7.2.5)
_MULTIPLIER = re.compile(r"(\d+)[ :]+(\d+)$")


class TtmlClock:
    """What times of a document count in.

    Attributes:
        misread: a rate that makes no sense, as it is written; the usual one is taken for it.
    """

    def __init__(self, parameters: Mapping[str, str]) -> None:
        """Takes the parameters of a document by their names without a namespace."""
        self.misread = ""
        rate = self._rate(parameters.get("frameRate"), _USUAL_RATE)
        self._frames = rate * self._multiplier(parameters.get("frameRateMultiplier"))
        # Of a time code each number is so many frames: at 29.97 its hour is 3.6 s longer than one
        # of the clock (TTML2, 10.3.1 and I.2).
        self._pace = 1.0
        if parameters.get("timeBase", "").lower() == "smpte":
            self._pace = rate / self._frames
        self._ticks = self._rate(
            parameters.get("tickRate"), self._frames if "frameRate" in parameters else 1.0
        )
        # Frames are counted, and numbers left out, as television does at 29.97.
        self._drops_frames = parameters.get("dropMode", "").lower() == "dropntsc"

    def seconds(self, text: str) -> float | None:
        """A time in seconds; None where it is none."""
        if found := _CLOCK.match(text):
            hours, minutes, seconds, fraction, mark, frames = found.groups()
            if frames is not None and (self._drops_frames or mark == ";"):
                return seconds_of_drop_frame(int(hours), int(minutes), int(seconds), int(frames))
            whole = ((int(hours) * 60 + int(minutes)) * 60 + int(seconds)) * self._pace
            if fraction:
                return whole + float(f"0.{fraction}")
            return whole + int(frames or 0) / self._frames
        if found := _OFFSET.match(text):
            units = {
                "h": 3600.0,
                "m": 60.0,
                "s": 1.0,
                "ms": 0.001,
                "f": 1 / self._frames,
                "t": 1 / self._ticks,
            }
            return float(found[1]) * units[found[2]]
        return None

    def _rate(self, written: str | None, usual: float) -> float:
        if written is None:
            return usual
        try:
            rate = float(written)
        except ValueError:
            rate = 0.0
        if not 0.0 < rate < float("inf"):
            self.misread = self.misread or written
            return usual
        return rate

    def _multiplier(self, written: str | None) -> float:
        """The standard has a space between its parts; a colon comes from a draft of it."""
        if written is None or written.strip() == "1":
            return 1.0
        found = _MULTIPLIER.match(written.strip())
        if found is None or not int(found[1]) or not int(found[2]):
            self.misread = self.misread or written
            return 1.0
        return int(found[1]) / int(found[2])
