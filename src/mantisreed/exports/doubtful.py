"""Where a text is doubtful, as formats for people colour it."""

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import accumulate, chain, groupby

from mantisreed.exports.script import Script
from mantisreed.transcript.document import Doubt, Passage
from mantisreed.transcript.writing import places_of

HAS_NO_TEXT = "missing"
"""The kind of doubt about which there is no text to colour."""


@dataclass(frozen=True, slots=True)
class DoubtRun:
    """A run of text; `doubts` are those about it, the surest first."""

    text: str
    doubts: tuple[Doubt, ...] = ()

    @property
    def why(self) -> str:
        """The doubts in words."""
        return "; ".join(f"{doubt.kind}: {doubt.why}" for doubt in self.doubts)


def doubts_worth_showing(script: Script) -> list[Doubt]:
    """The doubts of a script's transcript that somebody should hear, by time."""
    if script.transcript is not None:
        return list(script.transcript.doubts_worth_hearing)
    return []


class DoubtsByTime:
    """Doubts about text, found by time: a long transcript has thousands of them, and of
    passages.
    """

    def __init__(self, doubts: Iterable[Doubt]) -> None:
        self._by_minute: dict[int, list[Doubt]] = {}
        for doubt in doubts:
            if doubt.kind != HAS_NO_TEXT:
                for minute in range(int(doubt.start // 60), int(doubt.end // 60) + 1):
                    self._by_minute.setdefault(minute, []).append(doubt)

    def between(self, start: float, end: float) -> list[Doubt]:
        """Those that touch a stretch of time, in seconds."""
        minutes = range(int(start // 60), int(end // 60) + 1)
        # A doubt of two minutes is in both; each once, in order.
        near = dict.fromkeys(
            chain.from_iterable(self._by_minute.get(minute, ()) for minute in minutes)
        )
        return [doubt for doubt in near if doubt.start < end and doubt.end > start]


def runs_of(passage: Passage, doubts: DoubtsByTime) -> list[DoubtRun]:
    """A passage's text in runs that have the same doubts; where its words are not known, all of it
    as one.
    """
    flat = " ".join(passage.text.split())
    near = doubts.between(passage.start, passage.end)
    words = [word.text for word in passage.words]
    if near:
        places = places_of(flat, words)
    else:
        places = None
    if not near or not words or places is None:
        if flat:
            return [DoubtRun(flat, tuple(near))]
        return []
    # By its middle: doubts begin and end within the pauses beside words.
    own = [_doubts_at((word.start + word.end) / 2, near) for word in passage.words]
    runs = []
    for alike, group in groupby(range(len(words)), key=lambda at: own[at]):
        members = list(group)
        if members[0]:
            begin = places[members[0]]
        else:
            # The first run has what stands before its first word, such as a quotation mark.
            begin = 0
        after = members[-1] + 1
        if after < len(words):
            end = places[after]
        else:
            end = len(flat)
        runs.append(DoubtRun(flat[begin:end], alike))
    return runs


def _doubts_at(moment: float, doubts: Sequence[Doubt]) -> tuple[Doubt, ...]:
    here = [doubt for doubt in doubts if doubt.start <= moment <= doubt.end]
    # The gravest first, as the colour tells only one.
    return tuple(sorted(here, key=lambda doubt: -doubt.grade))


def gaps_before(passages: Sequence[Passage], doubts: Iterable[Doubt]) -> list[list[Doubt]]:
    """For each passage the doubts about missing text that begin before it ends; at last those
    behind all of them.
    """
    found: list[list[Doubt]] = [[] for _ in range(len(passages) + 1)]
    # Passages of several speakers overlap, so that their ends need not rise.
    ends = list(accumulate((passage.end for passage in passages), max))
    for doubt in doubts:
        if doubt.kind == HAS_NO_TEXT:
            found[bisect_right(ends, doubt.start)].append(doubt)
    return found
