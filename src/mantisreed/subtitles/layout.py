"""Laying timed words out in cues: dynamic programming over all words of a transcript at once.

What a cue from word i to word j costs is computed for all i and all lengths together, as arrays;
then the cheapest chain of cues is found from the end of each. A rule that is broken costs more than
any bad break. Time and memory are linear in the number of words.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from mantisreed.subtitles.cues import Cue, Turn, text_width
from mantisreed.subtitles.frames import on_frames
from mantisreed.subtitles.language.break_place import CLAUSE, SENTENCE
from mantisreed.subtitles.language.breaks import Breaks, breaks_of
from mantisreed.subtitles.lines import RULE, broken_into_lines, line_of
from mantisreed.subtitles.overlaps import DASH
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.subtitles.tokens import CueTokens, tokens_of
from mantisreed.transcript.document import Passage
from mantisreed.transcript.estimate import passages_over_speech

_SAMPLE = 20  # passages that tell the script
_IMPOSSIBLE = 1e12  # more than any sum of penalties
# Weights, all in units of a line break's penalty; tuned on the odd files of `benchmarks/gold`.
_CUE = 6.0  # each cue costs a little, so that there are not more than needed
CUE_BREAK = 3.0  # a sentence that is torn between two cues is harder to read than one on two lines
_GOES_ON = 60.0  # more than a cue, so that one more is made for the sentence that ends
_TAIL = 12.0  # for the end of a torn sentence and the next one in a cue
_GOES_ON_FROM_LITTLE = 6.0  # the same where that sentence is a `Yes.`, too short for a cue
_FAST, _FASTER = 20.0, 100.0  # for too fast a cue, and for each time that it is faster than allowed
_FULLY_FAST = 0.03  # faster by so much; what is hardly too fast is no reason to tear a sentence
# For too short a cue, and for the share of the shortest time that is missing.
_SHORT, _SHORTER = (
    30.0,
    200.0,
)
_LITTLE, _LOST = 12, 8.0  # columns; a cue with less looks lost
# Seconds of silence inside a sentence; a cue over it shows what is not said yet.
_PAUSE, _BRIDGED = (
    0.7,
    40.0,
)
_QUICK = 0.6  # seconds between two speakers; a quicker exchange shares a cue
_AHEAD = 2.5  # seconds by which the second line of a shared cue may be read before it is said
_SHARED = 4.0  # less than a cue, so that a quick exchange is one
# Of a cue break's weight where the speaker pauses, and the most it comes to.
_AT_PAUSE, _MOST_AT_PAUSE = (
    0.4,
    20.0,
)
_SLACK = 1e-6  # seconds
_BLINK = 0.001  # seconds; the least that formats can say
_OVERLAPPED_WORDS = (
    0.05  # seconds by which engines let a word begin before the one before it has ended
)

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


def lay_out(
    passages: Iterable[Passage],
    rules: LayoutRules | None = None,
    *,
    language: str | None = None,
    mark_speakers: bool = False,
    until: float | None = None,
) -> list[Cue]:
    """The cues of passages, by start.

    Args:
        passages: in order of time; those without words are laid out by their own times.
        rules: how cues may look; None takes the defaults.
        language: a tag, for where language breaks; None knows punctuation only.
        mark_speakers: put the rules' mark before the first word of each new speaker.
        until: when something else follows; None for nothing.
    """
    passages = list(passages)
    sample = " ".join(passage.text for passage in passages[:_SAMPLE])
    rules = (rules or LayoutRules()).for_language(language, sample)
    tokens = tokens_of(
        passages_over_speech(passages, ()), rules, language, mark_speakers=mark_speakers
    )
    if not tokens.words:
        return []
    breaks = breaks_of(tokens.texts, language, tokens.is_glued)
    penalties = breaks.of_lines
    shape = _Shape(tokens, breaks, rules, np.inf if until is None else until)
    spans = list(shape.best_spans())
    broken = [_lines_of(tokens, penalties, rules, first, last) for first, last in spans]
    widths = [sum(map(text_width, lines)) for lines in broken]
    starts = [float(shape.starts[first]) for first, _ in spans]
    cues = []
    for number, (first, last) in enumerate(spans):
        is_last = number + 1 == len(spans)
        following = until if is_last else starts[number + 1]
        is_overlapped = not is_last and tokens.speakers[last - 1] != tokens.speakers[last]
        words = tuple(tokens.words[first:last])
        spoken = _Spoken(starts[number], max(word.end for word in words), widths[number])
        end = _end_of(spoken, following, rules, is_overlapped)
        turns = _turns_of(tokens, first, last)
        cues.append(
            Cue(starts[number], end, broken[number], tokens.speakers[first], words, turns=turns)
        )
    cues.sort(key=lambda cue: (cue.start, cue.end))
    if rules.frame_rate is None:
        return cues
    return on_frames(cues, rules.frame_rate, rules.gap)


def _lines_of(
    tokens: CueTokens, penalties: Sequence[float], rules: LayoutRules, first: int, last: int
) -> tuple[str, ...]:
    """The lines of a cue; of one that two speakers share, a line and a dash each."""
    if turns := _turns_of(tokens, first, last):
        middle = first + turns[0].words
        parts = ((first, middle), (middle, last))
        return tuple(
            DASH + line_of(tokens.texts[begin:end], [False, *tokens.is_glued[begin + 1 : end]])
            for begin, end in parts
        )
    return broken_into_lines(
        tokens.texts[first:last], penalties[first:last], rules, tokens.is_glued[first:last]
    )


def _turns_of(tokens: CueTokens, first: int, last: int) -> tuple[Turn, ...]:
    """Whose the lines of a cue are, where two speakers share it."""
    speakers = tokens.speakers[first:last]
    if tokens.run[first] == tokens.run[last - 1]:
        return ()
    middle = next(at for at, run in enumerate(tokens.run[first:last]) if run != tokens.run[first])
    return Turn(speakers[0], middle), Turn(speakers[-1], len(speakers) - middle)


class _Shape:
    """What every possible cue would cost, and the cheapest chain of them."""

    def __init__(self, tokens: CueTokens, breaks: Breaks, rules: LayoutRules, until: float) -> None:
        self._rules = rules
        self._count = len(tokens.words)
        self.starts: Floats = _in_times(tokens, rules)
        self._starts: Floats = np.array([word.start for word in tokens.words])
        self._ends: Floats = np.array([word.end for word in tokens.words])
        self._runs: Ints = np.array(tokens.run)
        self._penalties: Floats = np.array([*breaks.of_lines, 0.0])
        self._more_of_cues: Floats = np.array([*breaks.more_of_cues, 0.0])
        self._spaces: Ints = np.array([0 if glued else 1 for glued in tokens.is_glued])
        widths = np.array(list(map(text_width, tokens.texts))) + self._spaces
        self._edges: Ints = np.concatenate(([0], np.cumsum(widths)))
        # How many sentences end before each word, the first one's own beginning not counted.
        self._sentence_ends: Ints = np.concatenate(
            ([0], np.cumsum(np.append(self._penalties[:-1] <= SENTENCE, False)))
        )
        # Where a sentence ended last, up to each word.
        places = np.arange(self._count)
        ends = np.where(self._penalties[:-1] <= SENTENCE, places, 0)
        self._last_ends: Ints = np.maximum.accumulate(ends)
        is_last = np.append(self._runs[1:] != self._runs[:-1], True)
        # Where a cue has to end, it ends well.
        self._penalties[1:][is_last] = 0.0
        self._more_of_cues[1:][is_last] = 0.0
        # Where another speaker begins before this one has ended, both are seen at once.
        following = np.append(self._starts[1:], until)
        self._speakers = tokens.speakers
        others = np.array([a != b for a, b in pairwise([*tokens.speakers, None])])
        self._is_overlapped = (following < self._ends) & others
        self._following: Floats = np.append(self.starts[1:], until)
        self._line_ends = self._first_line_ends()
        self._line_starts = self._last_line_starts()
        self._best_breaks = _lowest(self._penalties[:-1], int(rules.line_length))
        self._cue_breaks, self._long_pauses = self._at_pauses()

    def best_spans(self) -> Iterator[tuple[int, int]]:
        """The first word of each cue, and the one after its last."""
        longest = self._most_words()
        costs = np.full((longest, self._count), _IMPOSSIBLE)  # by length - 1, and last word
        for length in range(1, longest + 1):
            costs[length - 1, length - 1 :] = self._costs(length)
        for first, last, cost in self._shared():
            if last - first < longest:
                costs[last - first, last] = cost
        total = np.zeros(self._count + 1)
        chosen = np.zeros(self._count + 1, dtype=np.int64)
        by_word = np.ascontiguousarray(costs.T)
        for last in range(1, self._count + 1):
            reach = min(longest, last)
            sums = by_word[last - 1, :reach] + total[last - reach : last][::-1]
            best = int(sums.argmin())
            total[last], chosen[last] = sums[best], best + 1
        ends = [self._count]
        while ends[-1] > 0:
            ends.append(ends[-1] - int(chosen[ends[-1]]))
        return pairwise(reversed(ends))

    def _shared(self) -> Iterator[tuple[int, int, float]]:
        """Cues that two speakers can share, in a quick exchange: their first and last word, and
        what they cost.
        """
        rules = self._rules
        if rules.speakers not in ("dash", "dash-each") or rules.lines < 2:
            return
        limit = rules.line_length - len(DASH)
        for at in np.flatnonzero(self._runs[1:] != self._runs[:-1]) + 1:
            middle = int(at)
            before, after = self._speakers[middle - 1], self._speakers[middle]
            is_exchange = before is not None and after is not None and before != after
            if not is_exchange or self._starts[middle] - self._ends[middle - 1] > _QUICK:
                continue
            firsts = self._sentence_starts_before(middle, limit)
            lasts = self._sentence_ends_from(middle, limit)
            for first in firsts:
                if not 0.0 <= self._starts[middle] - self._starts[first] <= _AHEAD:
                    continue
                for last in lasts:
                    yield first, last, self._cost_of_shared(first, last)

    def _sentence_starts_before(self, middle: int, limit: int) -> list[int]:
        """Where a line of whole sentences may begin that ends before a word."""
        found, first = [], middle - 1
        while first >= 0 and self._runs[first] == self._runs[middle - 1]:
            if self._edges[middle] - self._edges[first] - self._spaces[first] > limit:
                break
            is_start = (
                first == 0
                or self._runs[first - 1] != self._runs[first]
                or self._penalties[first] <= SENTENCE
            )
            if is_start:
                found.append(first)
            first -= 1
        return found

    def _sentence_ends_from(self, middle: int, limit: int) -> list[int]:
        """With which words a line of whole sentences may end that begins with a word."""
        found, last = [], middle
        while last < self._count and self._runs[last] == self._runs[middle]:
            if self._edges[last + 1] - self._edges[middle] - self._spaces[middle] > limit:
                break
            if self._penalties[last + 1] <= SENTENCE:
                found.append(last)
            last += 1
        return found

    def _cost_of_shared(self, first: int, last: int) -> float:
        rules = self._rules
        start, end = self.starts[first], max(self._ends[first : last + 1])
        if end - start > rules.longest:
            return _IMPOSSIBLE
        width = float(self._edges[last + 1] - self._edges[first] - self._spaces[first]) + 2 * len(
            DASH
        )
        room = min(max(self._following[last] - rules.gap - start, 0.0), rules.longest)
        return _CUE + _SHARED + float(self._hurry(np.array(width), np.array(room)))

    def _hurry(self, width: Floats, room: Floats) -> Floats:
        """What it costs that cues of these widths have so many seconds: too fast to be read, too
        short to be seen.
        """
        rules = self._rules
        fast = np.maximum(width / np.maximum(room, 1e-3) / rules.speed - 1.0, 0.0)
        missing = np.maximum(rules.shortest - room, 0.0)
        cost = _FAST * np.minimum(fast / _FULLY_FAST, 1.0) + _FASTER * fast
        short = _SHORT + _SHORTER * missing / max(rules.shortest, _SLACK)
        return cost + np.where(missing > _SLACK, short, 0.0)

    def _at_pauses(self) -> tuple[Floats, Ints]:
        """What a cue's end costs before each word, and how many long pauses inside sentences lie
        before each.
        """
        pauses = np.zeros(self._count + 1)
        pauses[1:-1] = self._starts[1:] - self._ends[:-1]
        is_long = pauses > _PAUSE
        penalties = self._penalties + self._more_of_cues
        cue_breaks = penalties + (CUE_BREAK - 1.0) * np.maximum(penalties - CLAUSE, 0.0)
        cue_breaks = np.where(
            is_long, np.minimum(_AT_PAUSE * cue_breaks, _MOST_AT_PAUSE), cue_breaks
        )
        is_inside = is_long & (self._penalties > SENTENCE)
        return cue_breaks, np.cumsum(is_inside)

    def _most_words(self) -> int:
        """How many words the fullest cue can hold."""
        first = np.arange(self._count)
        return int(max(1, (self._reach(first) - first).max()))

    def _first_line_ends(self) -> Ints:
        """Where a line that begins with each word ends at the latest."""
        limit = self._edges[:-1] + self._spaces + self._rules.line_length
        ends = np.searchsorted(self._edges, limit, side="right") - 1
        result: Ints = np.maximum(ends, np.arange(self._count) + 1)
        return result

    def _last_line_starts(self) -> Ints:
        """With which word a line that ends with each word begins at the earliest."""
        least = self._edges[1:] - self._rules.line_length
        starts = np.searchsorted(self._edges[:-1] + self._spaces, least, side="left")
        result: Ints = np.minimum(starts, np.arange(self._count))
        return result

    def _line_breaks(self, first: Ints, last: Ints, width: Floats) -> Floats:
        """The penalty of the best place where a cue of two lines can be broken."""
        low = np.maximum(self._line_starts[last], first + 1)
        high = np.minimum(self._line_ends[first], last)
        is_broken = (width > self._rules.line_length) & (low <= high)
        low, high = np.where(is_broken, low, first), np.where(is_broken, high, first)
        level = np.minimum(np.frexp(high - low + 1)[1] - 1, len(self._best_breaks) - 1)
        found = np.minimum(
            self._best_breaks[level, low], self._best_breaks[level, high - (1 << level) + 1]
        )
        return np.where(is_broken, found, 0.0)

    def _reach(self, first: Ints) -> Ints:
        """Where as many lines as a cue may have end at the latest."""
        for _ in range(self._rules.lines):
            first = np.where(
                first < self._count,
                self._line_ends[np.minimum(first, self._count - 1)],
                self._count,
            )
        return first

    def _costs(self, length: int) -> Floats:
        """What each cue of so many words costs."""
        rules = self._rules
        first = np.arange(self._count - length + 1)
        last = first + length - 1
        start = self.starts[first]
        spoken = np.maximum(self._ends[last] - start, 0.0)
        width = (self._edges[last + 1] - self._edges[first] - self._spaces[first]).astype(float)
        if rules.lines == 2 and length > 1:
            breaking = self._line_breaks(first, last, width)
        else:
            breaking = np.zeros(len(first))
        width -= width > rules.line_length  # where a line ends, no space is read
        room = np.clip(self._following[last] - rules.gap - start, 0.0, rules.longest)
        room = np.where(self._is_overlapped[last], spoken, room)
        is_lost = (width < _LITTLE) & (
            self._penalties[first] + self._penalties[last + 1] > SENTENCE
        )
        cost = self._cue_breaks[last + 1] + breaking + _CUE + np.where(is_lost, _LOST, 0.0)
        cost += _BRIDGED * (self._long_pauses[last] - self._long_pauses[first])
        # A cue that ends in a sentence, although another one ends inside it, had better ended
        # there.
        has_end_inside = self._sentence_ends[last + 1] > self._sentence_ends[first + 1]
        ended = self._edges[self._last_ends[last]] - self._edges[first]
        goes_on = np.where(ended <= _LITTLE, _GOES_ON_FROM_LITTLE, _GOES_ON)
        cost += np.where(has_end_inside & (self._penalties[last + 1] > SENTENCE), goes_on, 0.0)
        # One that begins in a sentence had better not go on with the next one.
        cost += np.where(has_end_inside & (self._penalties[first] > SENTENCE), _TAIL, 0.0)
        cost += self._hurry(width, room)
        does_not_fit = (self._reach(first) <= last) | (spoken > rules.longest + _SLACK)
        if length == 1:
            return np.where(does_not_fit, cost + RULE, cost)
        return np.where(does_not_fit | (self._runs[first] != self._runs[last]), _IMPOSSIBLE, cost)


def _lowest(values: Floats, longest: int) -> Floats:
    """The lowest of 1, 2, 4, 8... neighbouring values, from each one on; by the power of two, and
    place.
    """
    levels = [values]
    while 2 ** len(levels) <= longest:
        below, step = levels[-1], 2 ** (len(levels) - 1)
        levels.append(
            np.minimum(below, np.append(below[step:], np.full(min(step, len(below)), np.inf)))
        )
    return np.stack(levels)


@dataclass(frozen=True, slots=True)
class _Spoken:
    """A cue whose end is not known yet.

    Attributes:
        start: when it begins.
        end: when its last word has ended.
        width: of its lines together.
    """

    start: float
    end: float
    width: int


def _in_times(tokens: CueTokens, rules: LayoutRules) -> Floats:
    """When a cue that begins with each word begins: with it, or as much later as the word before
    and the gap take.

    Where words follow each other without a pause, the gap has to come from somewhere. A cue that
    goes out before its last word has ended is seen; one that comes a few hundredths late is not.
    """
    starts = np.array([word.start for word in tokens.words])
    before = np.append(-np.inf, [word.end for word in tokens.words[:-1]])
    late = before + rules.gap - starts
    is_others = np.array([a != b for a, b in pairwise([tokens.speakers[0], *tokens.speakers])])
    is_crosstalk = is_others & (starts < before)
    waits = (late > 0.0) & (late <= rules.gap + _OVERLAPPED_WORDS) & ~is_crosstalk
    return np.where(waits, starts + np.maximum(late, 0.0), starts)


def _end_of(cue: _Spoken, following: float | None, rules: LayoutRules, may_overlap: bool) -> float:
    """When a cue ends: a little after its speech, or later if somebody needs longer to read it and
    there is time.

    Args:
        cue: what is known of it.
        following: when the next cue begins; None for the last one.
        rules: how cues may look.
        may_overlap: the next cue is another speaker's, who may begin before this one has ended.
    """
    start, spoken = cue.start, cue.end
    wanted = max(spoken + rules.linger, start + rules.shortest, start + cue.width / rules.speed)
    latest = max(spoken, start + rules.longest)
    end = min(wanted, latest)
    # A cue without a length is none: players do not show it.
    least = start + _BLINK
    if following is None:
        return max(end, least)
    if may_overlap and following < spoken:
        return max(spoken, least)
    if following - end < rules.flicker:
        end = latest
        # Where the longest time does not reach the next cue, a gap that is seen as one is better
        # than a flicker.
        if following - end > rules.gap:
            end = max(spoken, min(end, following - rules.flicker))
    return max(min(end, following - rules.gap), min(spoken, start + 0.05), least)
