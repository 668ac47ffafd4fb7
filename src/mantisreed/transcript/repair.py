"""Mending times that make no sense: of no length, all alike, out of order, past the end."""

import math
from bisect import bisect_right
from collections.abc import Iterable, Sequence
from itertools import pairwise

import msgspec

from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.estimate import spoken_length

_SHORTEST = 0.02  # seconds that a word lasts at least
_PER_LENGTH = (
    0.08  # seconds for each unit of `spoken_length`, for words of which only the start is known,
)


def repaired(passages: Iterable[Passage], duration: float) -> tuple[tuple[Passage, ...], int]:
    """Passages whose words have times in order, within the sound, and of some length.

    The longest run of words that are in order is trusted; what lies between two of them shares the
    time between.

    Args:
        passages: as an engine gave them.
        duration: seconds of sound.

    Returns:
        The passages, and how many words were timed anew; those that were good are the same objects.
    """
    mended, count = [], 0
    for passage in passages:
        words, changed = _repaired_words(passage, duration)
        count += changed
        if changed:
            start, end = words[0].start, max(word.end for word in words)
            passage = msgspec.structs.replace(passage, start=start, end=end, words=words)
        elif not _is_span(passage.start, passage.end, duration):
            start = min(max(0.0, _finite(passage.start)), duration)
            passage = msgspec.structs.replace(
                passage, start=start, end=min(max(start, _finite(passage.end)), duration)
            )
        mended.append(passage)
    return tuple(mended), count


def _repaired_words(passage: Passage, duration: float) -> tuple[tuple[Word, ...], int]:
    words = passage.words
    if not words or _are_good(words, duration):
        return words, 0
    trusted = _longest_order(words, duration)
    low = min(max(0.0, _finite(passage.start)), duration)
    if trusted:
        low = min(low, words[trusted[0]].start)
    high = min(max(low, _finite(passage.end)), duration) or duration
    edges = [
        (-1, low),
        *((at, words[at].start) for at in trusted),
        (len(words), max(high, low + _SHORTEST)),
    ]
    starts = [0.0] * (len(words) + 1)
    starts[-1] = min(duration, max(edges[-1][1], (words[trusted[-1]].end if trusted else 0.0)))
    for (before, start), (after, end) in pairwise(edges):
        first = max(before, 0)
        lengths = [spoken_length(word.text) for word in words[first:after]]
        if after > first:
            end = starts[-1] if after == len(words) else end
            at, each = start, max(0.0, end - start) / (sum(lengths) or 1.0)
            for number, length in enumerate(lengths, first):
                starts[number] = at
                at += length * each
    result: list[Word] = []
    changed, earliest = 0, 0.0
    kept = set(trusted)
    for number, word in enumerate(words):
        start, following = starts[number], starts[number + 1]
        wanted = start + max(_SHORTEST, spoken_length(word.text) * _PER_LENGTH)
        if number in kept and start < word.end <= duration:
            end = word.end
        else:
            end = min(wanted, max(following, start))
        if (start, end) != (word.start, word.end) or start < earliest:
            changed += 1
            start = max(round(start, 3), earliest)  # rounding may have put the one before behind it
            word = msgspec.structs.replace(word, start=start, end=max(start, round(end, 3)))
        earliest = word.start
        result.append(word)
    return tuple(result), changed


def _are_good(words: Sequence[Word], duration: float) -> bool:
    before = 0.0
    for word in words:
        if not (before <= word.start < word.end <= duration + _SHORTEST):
            return False
        before = word.start
    return True


def _longest_order(words: Sequence[Word], duration: float) -> list[int]:
    """The places of the longest run of words, not necessarily neighbours, whose starts grow."""
    tails: list[float] = []
    places: list[int] = []
    before: dict[int, int | None] = {}
    for at, word in enumerate(words):
        if not (math.isfinite(word.start) and 0.0 <= word.start < duration):
            continue
        where = bisect_right(tails, word.start)
        if where and tails[where - 1] == word.start:
            continue  # two cannot begin at once
        before[at] = places[where - 1] if where else None
        tails[where : where + 1] = [word.start]
        places[where : where + 1] = [at]
    chain: list[int] = []
    at_end = places[-1] if places else None
    while at_end is not None:
        chain.append(at_end)
        at_end = before[at_end]
    return chain[::-1]


def _is_span(start: float, end: float, duration: float) -> bool:
    return 0.0 <= start <= end <= duration + _SHORTEST


def _finite(seconds: float) -> float:
    return seconds if math.isfinite(seconds) else 0.0
