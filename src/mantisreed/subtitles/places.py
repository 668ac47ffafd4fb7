"""Where cues stand on the screen, by their WebVTT settings."""

from collections.abc import Iterator, Sequence
from itertools import pairwise

from mantisreed.subtitles.cues import Cue


def settings_of_keypad(digit: int) -> str:
    r"""Cue settings that place a cue where `{\\anN}` does; empty for the usual place."""
    row, column = divmod(digit - 1, 3)
    line = {0: "", 1: "line:50%,center", 2: "line:0"}[row]
    align = {
        0: "position:0%,line-left align:start",
        1: "",
        2: "position:100%,line-right align:end",
    }[column]
    return " ".join(part for part in (line, align) if part)


def keypad_of_settings(settings: str) -> int:
    r"""The digit of `{\\anN}` that is nearest to cue settings; 2, below in the middle, for none."""
    values = dict(part.partition(":")[::2] for part in settings.split())
    align = values.get("align", "center")
    column = {"start": 0, "left": 0, "end": 2, "right": 2}.get(align, 1)
    return 3 * _row_of(values.get("line", "")) + column + 1


def _row_of(line: str) -> int:
    """0 for below, 1 for the middle, 2 for above."""
    number = line.partition(",")[0]
    try:
        value = float(number.rstrip("%"))
    except ValueError:
        return 0
    if not number.endswith("%"):
        # Lines are counted from above, or with a minus from below; a screen has some fifteen.
        if 0 <= value <= 5:
            return 2
        return 0
    if value < 40:
        return 2
    if value <= 65:
        return 1
    return 0


def place_of(settings: str) -> tuple[int, str]:
    """What cues have in common that would cover each other: their part of the screen, and their
    region.
    """
    values = dict(part.partition(":")[::2] for part in settings.split())
    return keypad_of_settings(settings), values.get("region", "")


def neighbours(cues: Sequence[Cue]) -> Iterator[tuple[int, int]]:
    """The places in the list of each cue and of the next one that stands where it does."""
    by_place: dict[tuple[int, str], list[int]] = {}
    for at, cue in enumerate(cues):
        place = (2, "") if not cue.settings else place_of(cue.settings)
        by_place.setdefault(place, []).append(at)
    for together in by_place.values():
        yield from pairwise(together)
