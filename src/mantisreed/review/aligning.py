"""Two long rows of words laid beside each other with the fewest changes, by Levenshtein distance.

What is long is cut at stretches of words that stand in both rows, and there only once.
"""

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from itertools import chain, pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from rapidfuzz.distance import Levenshtein

_LONG = 4000  # words from which it pays to cut
_STRETCH = 6  # words in a row that are looked for in the other row
_APART = 200  # words between two cuts at least
# Odd and irregular, so that different stretches have different sums.
_FACTOR = np.uint64(0x9E3779B97F4A7C15)


class AlignedRun(NamedTuple):
    """A run of words that are the same in both rows, or not: [first, last) in the one and [begin,
    end) in the other.

    Attributes:
        tag: `equal`, `replace`, `delete` or `insert`, as it is usual.
    """

    tag: str
    first: int
    last: int
    begin: int
    end: int


def aligned_runs(
    one: Sequence[str], other: Sequence[str], *, is_exact: bool = True
) -> list[AlignedRun]:
    """The runs by which one row becomes the other.

    Args:
        one, other: words.
        is_exact: whether the changes have to be the fewest of all; else they may be some more,
            which is rare, and takes a third of the time of long rows.
    """
    if min(len(one), len(other)) >= _LONG:
        cuts = list(_cuts(one, other))
    else:
        cuts = []
    if not cuts:
        return _joined(_between(one, other, 0, len(one), 0, len(other)))
    places = [(0, 0), *cuts, (len(one), len(other))]
    runs = _joined(
        chain.from_iterable(
            _between(one, other, first, last, begin, end)
            for (first, begin), (last, end) in pairwise(places)
        )
    )
    if is_exact:
        changes = changes_in(runs)
        # Counting is quick where it is known what is to be undercut.
        if changes and Levenshtein.distance(one, other, score_cutoff=changes - 1) < changes:
            return _joined(_between(one, other, 0, len(one), 0, len(other), hint=changes))
    return runs


def changes_in(runs: Sequence[AlignedRun]) -> int:
    """How many words are changed, left out or added."""
    return sum(max(run.last - run.first, run.end - run.begin) for run in runs if run.tag != "equal")


def _between(
    one: Sequence[str],
    other: Sequence[str],
    first: int,
    last: int,
    begin: int,
    end: int,
    hint: int | None = None,
) -> Iterator[AlignedRun]:
    # A hint near the true distance keeps time and memory linear for long, similar rows.
    near = max(8, (last - first) // 20) if hint is None else hint
    for code in Levenshtein.opcodes(one[first:last], other[begin:end], score_hint=near):
        yield AlignedRun(
            code.tag,
            first + code.src_start,
            first + code.src_end,
            begin + code.dest_start,
            begin + code.dest_end,
        )


def _joined(runs: Iterator[AlignedRun]) -> list[AlignedRun]:
    """Runs of the same kind that follow each other, as one."""
    found: list[AlignedRun] = []
    for run in runs:
        if found and found[-1].tag == run.tag:
            found[-1] = AlignedRun(run.tag, found[-1].first, run.last, found[-1].begin, run.end)
        else:
            found.append(run)
    return found


def _cuts(one: Sequence[str], other: Sequence[str]) -> Iterator[tuple[int, int]]:
    """Places in the middle of stretches that stand once in either row, in the same order in
    both.
    """
    numbers: dict[str, int] = {}
    coded = [
        np.fromiter((numbers.setdefault(word, len(numbers)) for word in row), np.uint64, len(row))
        for row in (one, other)
    ]
    (sums, at), (their_sums, to) = (_only_once(_sums(row)) for row in coded)
    _, mine, theirs = np.intersect1d(sums, their_sums, assume_unique=True, return_indices=True)
    pairs = sorted(zip(at[mine].tolist(), to[theirs].tolist(), strict=True))
    before = (-_APART, -_APART)
    for place, their_place in _rising(pairs):
        is_apart = place - before[0] >= _APART and their_place - before[1] >= _APART
        # Two stretches may have the same sum by chance.
        if (
            is_apart
            and one[place : place + _STRETCH] == other[their_place : their_place + _STRETCH]
        ):
            before = (place, their_place)
            yield place + _STRETCH // 2, their_place + _STRETCH // 2


def _sums(row: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """A sum for the stretch that begins at each place."""
    count = len(row) - _STRETCH + 1
    sums = np.zeros(count, np.uint64)
    for offset in range(_STRETCH):
        sums = (sums + row[offset : offset + count] + np.uint64(1)) * _FACTOR
        sums ^= sums >> np.uint64(29)
    return sums


def _only_once(sums: NDArray[np.uint64]) -> tuple[NDArray[np.uint64], NDArray[np.intp]]:
    """The sums that come once, and where."""
    found, first, counts = np.unique(sums, return_index=True, return_counts=True)
    return found[counts == 1], first[counts == 1]


def _rising(pairs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """As many pairs as can be of which both numbers rise; the first numbers rise already."""
    tails: list[int] = []
    ends: list[int] = []
    before: list[int] = []
    for number, (_, second) in enumerate(pairs):
        length = bisect_left(tails, second)
        before.append(ends[length - 1] if length else -1)
        if length == len(tails):
            tails.append(second)
            ends.append(number)
        else:
            tails[length], ends[length] = second, number
    chain = []
    at = ends[-1] if ends else -1
    while at >= 0:
        chain.append(pairs[at])
        at = before[at]
    return chain[::-1]
