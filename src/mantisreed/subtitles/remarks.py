"""What readers have to say about a file: what they mended, what they left out, what its format does
not allow.
"""

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Remark:
    """One of these.

    Attributes:
        what: for people, the same for all of its kind.
        found: as it stands in the file; empty where there is nothing to show.
        allowed: what the format wants instead; empty where nothing is wrong.
        line: of the file, from 1; 0 for all of it.
        cue: its number, from 1; 0 for none.
        start: seconds; of that cue.
    """

    what: str
    found: str = ""
    allowed: str = ""
    line: int = 0
    cue: int = 0
    start: float = 0.0


def notes_of(remarks: Iterable[Remark]) -> tuple[str, ...]:
    """A line for each kind of remark, with the first of its kind and how many there are."""
    kinds: dict[str, list[Remark]] = {}
    for remark in remarks:
        kinds.setdefault(remark.what, []).append(remark)
    return tuple(_note(what, alike) for what, alike in kinds.items())


def excerpt_of(text: str) -> str:
    """The beginning of a text, on one line."""
    flat = " ".join(text.split())
    if len(flat) <= 60:
        return flat
    return f"{flat[:59]}…"


def _note(what: str, alike: list[Remark]) -> str:
    first = f"{what}: {alike[0].found!r}" if alike[0].found else what
    if len(alike) == 1:
        return first
    if alike[0].found:
        return f"{first}, and {len(alike) - 1} more"
    return f"{what}, {len(alike)} times"
