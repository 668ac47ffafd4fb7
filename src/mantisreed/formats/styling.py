r"""What formats say of colours and places in different ways, in the one way that cues keep:
WebVTT's.

A colour is the mark `c.red` where WebVTT has a class for it, and `color #rrggbb` elsewhere. A place
is WebVTT's cue settings. Places of `{\\anN}` are those of the digits on a numeric keypad: 7 8 9
above, 4 5 6 in the middle, 1 2 3 below.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass

CLASS_COLOURS = {
    "white": "#ffffff",
    "lime": "#00ff00",
    "cyan": "#00ffff",
    "red": "#ff0000",
    "yellow": "#ffff00",
    "magenta": "#ff00ff",
    "blue": "#0000ff",
    "black": "#000000",
}
"""The colours for which WebVTT has classes (section 5 of the standard)."""

_OTHER_NAMES = {
    "aqua": "#00ffff",
    "fuchsia": "#ff00ff",
    "gray": "#808080",
    "grey": "#808080",
    "green": "#008000",
    "maroon": "#800000",
    "navy": "#000080",
    "olive": "#808000",
    "orange": "#ffa500",
    "purple": "#800080",
    "silver": "#c0c0c0",
    "teal": "#008080",
}
_NAMES = {code: name for name, code in CLASS_COLOURS.items()}
_HEX = re.compile(r"#?([0-9a-fA-F]{6})(?:[0-9a-fA-F]{2})?$")
_SHORT_HEX = re.compile(r"#([0-9a-fA-F])([0-9a-fA-F])([0-9a-fA-F])$")
_OWN_CLASS = re.compile(r"c\.color-([0-9a-f]{6})$")


def colour_mark(written: str) -> str | None:
    """The mark of a colour, by its name or as `#rrggbb`; None where it is none."""
    # Quoted twice, as happens when programs write HTML.
    text = written.strip().strip("\"'").lower()
    code = CLASS_COLOURS.get(text) or _OTHER_NAMES.get(text)
    if short := _SHORT_HEX.match(text):
        code = "#" + "".join(2 * digit for digit in short.groups())
    elif found := _HEX.match(text):
        code = f"#{found[1]}"
    if code is None:
        return None
    # The standard class of WebVTT where there is one: every player knows it.
    if code in _NAMES:
        return f"c.{_NAMES[code]}"
    return f"color {code}"


def colour_of(mark: str) -> str | None:
    """The colour of a mark as `#rrggbb`; None where it is no colour."""
    if mark.startswith("color "):
        return mark.removeprefix("color ")
    if own := _OWN_CLASS.match(mark):
        return f"#{own[1]}"
    if mark.startswith("c."):
        return CLASS_COLOURS.get(mark.removeprefix("c."))
    return None


def class_of_colour(colour: str) -> str:
    """The WebVTT class for a colour that has none by itself."""
    return f"color-{colour.lstrip('#')}"


@dataclass(frozen=True, slots=True)
class Region:
    """A WebVTT region (section 6.2 of the standard), as a rectangle on the screen.

    Attributes:
        name: its id.
        origin, extent: as TTML has them, in percent.
    """

    name: str
    origin: str
    extent: str


_LINE = 5.33  # percent of the screen's height that a line takes, as the standard has it
_XML_NAME = re.compile(r"[A-Za-z0-9._-]+")


def regions_of(head: Iterable[str]) -> list[Region]:
    """The regions among WebVTT blocks whose names can stand in XML."""
    found = []
    for block in head:
        if not block.startswith("REGION"):
            continue
        options = dict(part.partition(":")[::2] for part in block.split()[1:])
        name = options.get("id", "")
        # It becomes a name in XML.
        if not _XML_NAME.fullmatch(name):
            continue
        width = float(options.get("width", "100%").rstrip("%"))
        height = min(100.0, _LINE * int(options.get("lines", "3")))
        across, down = _sides(options.get("regionanchor", "0%,100%"))
        x, y = _sides(options.get("viewportanchor", "0%,100%"))
        left, top = x - across * width / 100.0, y - down * height / 100.0
        # Within the screen, wherever its anchor is.
        left, top = min(max(left, 0.0), 100.0 - width), min(max(top, 0.0), 100.0 - height)
        found.append(Region(name, f"{left:.4g}% {top:.4g}%", f"{width:.4g}% {height:.4g}%"))
    return found


def _sides(written: str) -> tuple[float, float]:
    first, _, second = written.partition(",")
    return float(first.rstrip("%")), float(second.rstrip("%"))
