"""A reply with a part of its own for each track of sound, in a sample."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from mantisreed.learning.column import Column, Judged
from mantisreed.learning.columns import speakers_of
from mantisreed.learning.found_lists import FoundList, columns_of, lists_in, raw_lists

_FEWEST_ITEMS = 2  # in a track, to see that its times are in order
_SURE = 0.5  # from which score on times of one track are times


@dataclass(frozen=True, slots=True)
class TrackList:
    """Tracks that stand one behind the other.

    Attributes:
        path: from the document to their list.
        items: the tracks.
        fullest: the one in which most is said.
        speakers: which of their fields can say who speaks, the best first.
    """

    path: str
    items: Sequence[dict[str, Any]]
    fullest: dict[str, Any]
    speakers: list[Judged]


def tracks_in(document: Any, length: float | None) -> TrackList | None:
    """The tracks of a document: a list whose items begin anew in time, and say nothing themselves.

    Args:
        document: a whole reply.
        length: of the sound in seconds, where it is known.

    Returns:
        None where there are none, or where one track alone proves nothing.
    """
    for path, items in raw_lists(document, ""):
        # A list of lists holds items of different tables, and one item is no sequence.
        if "[" in path or len(items) < 2 or not all(isinstance(item, dict) for item in items):
            continue
        # A column with [0] in its name is of a list inside.
        own = FoundList(path, tuple(one for one in columns_of(items) if "[" not in one.name))
        # Passages may overlap too; they have a text and times of their own.
        if own.words_each > 1 or own.times(length):
            continue
        # Somebody may have said nothing on one track; the fullest shows what tracks look like.
        fullest = max(items, key=lambda item: len(str(item)))
        if any(_begin_anew(items, inner, length) for inner in lists_in(fullest)):
            return TrackList(path, items, fullest, speakers_of(own.columns))
    return None


def _begin_anew(items: Sequence[Any], inner: FoundList, length: float | None) -> bool:
    """Whether most of the lists at this place begin before the one before them has ended."""
    times = inner.times(length)
    if inner.is_side_by_side or not inner.texts or not times or times[0].score < _SURE:
        return False
    start, unit = times[0].keys.get("start"), times[0].unit
    if start is None:
        return False
    spans = list(_spans(items, inner.path, start, unit))
    # Half of them, as two people may speak one after the other for once.
    anew = sum(later[0] < earlier[1] for earlier, later in pairwise(spans))
    return len(spans) >= 2 and anew >= (len(spans) - 1) / 2


def _spans(items: Sequence[Any], path: str, start: str, unit: str) -> Iterator[tuple[float, float]]:
    """When the first and the last item of each track begin, in seconds."""
    for item in items:
        found = dict(raw_lists(item, "")).get(path, [])
        for column in columns_of(found):
            if column.name != start or len(column.present) < _FEWEST_ITEMS:
                continue
            seconds = Column(start, column.values).seconds(unit)
            if seconds:
                yield seconds[0], seconds[-1]
