"""How much each engine is to be believed, by how they agree (Dawid and Skene, 1979)."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

BINS = 5  # ranges of confidence, each of which is calibrated by itself

# words that are taken to agree as all words of the transcript do, so that few do not tell much
_SMOOTHED = 20.0

_ROUNDS = 3  # of expectation and maximisation; beliefs hardly change after them

_OTHER_WORDS = 20.0  # words that are likely to be heard for another

_LEAST, _MOST = 0.05, 0.98  # chances of being right; nobody is that sure


@dataclass(slots=True)
class Judge:
    """How far a transcript is believed.

    Attributes:
        by_confidence: chance that a word of it is right, by range of confidence.
        overall: the same for words without a confidence.
        missing: the chance that it has nothing where something was said.
        made_up: the chance that it has a word where nothing was said and somebody has one.
    """

    by_confidence: list[float]
    overall: float
    missing: float = 0.05
    made_up: float = 0.3

    def chance(self, sure: int | None) -> float:
        """That a word of this range of confidence is right."""
        if sure is None:
            return self.overall
        return self.by_confidence[sure]


NOTHING = -1
"""The class of what is empty in a slot."""

Pattern = tuple[tuple[int, int | None], ...]
"""A slot without its words: for each transcript the class of what it has, equal ones alike, and its
confidence's
range. Tens of thousands of slots have a few hundred patterns, and all that is estimated follows
from these."""


def judges_of(patterns: Mapping[Pattern, int], count: int) -> tuple[list[Judge], float]:
    """How far each transcript is believed, and in what share of the slots nothing was said.

    By expectation and maximisation, as of observers whose verdicts are seen while the truth is not
    (Dawid and Skene 1979). At first each is believed as it agrees with the others.

    Args:
        patterns: of the slots, with how many slots have each.
        count: of the transcripts.
    """
    likely = {pattern: _shares(pattern) for pattern in patterns}
    judges, empty = _believed(patterns, likely, count)
    for _ in range(_ROUNDS):
        likely = {pattern: _likelihoods(pattern, judges, empty) for pattern in patterns}
        judges, empty = _believed(patterns, likely, count)
    return judges, empty


def _shares(pattern: Pattern) -> dict[int, float]:
    """By class the share of the transcripts that have it."""
    classes = [chosen for chosen, _ in pattern]
    return {one: classes.count(one) / len(classes) for one in classes}


def _believed(
    patterns: Mapping[Pattern, int], likely: Mapping[Pattern, Mapping[int, float]], count: int
) -> tuple[list[Judge], float]:
    """The judges as they would be, if each reading were as likely as that."""
    slots = sum(patterns.values())
    silence = sum(times * likely[pattern].get(NOTHING, 0.0) for pattern, times in patterns.items())
    empty = min(0.9, max(0.001, silence / slots))
    judges = []
    for number in range(count):
        right = total = missed = spoken = made_up = silent = 0.0
        bins = [[0.0, 0.0] for _ in range(BINS)]
        for pattern, times in patterns.items():
            nothing = likely[pattern].get(NOTHING, 0.0) * times
            chosen, sure = pattern[number]
            spoken += times - nothing
            silent += nothing
            if chosen == NOTHING:
                missed += times - nothing
                continue
            made_up += nothing
            believed = likely[pattern][chosen] * times
            right += believed
            total += times
            if sure is not None:
                bins[sure][0] += believed
                bins[sure][1] += times
        overall = _chance(right, total, 0.7)
        by_confidence = [_chance(agreed, seen, overall) for agreed, seen in bins]
        judges.append(
            Judge(by_confidence, overall, _rare(missed, spoken, 0.05), _rare(made_up, silent, 0.3))
        )
    return judges, empty


def _rare(happened: float, could: float, usual: float) -> float:
    """A share that is neither 0 nor 1, drawn towards the usual one where little tells."""
    return min(0.95, max(0.002, (happened + _SMOOTHED * usual) / (could + _SMOOTHED)))


def _likelihoods(pattern: Pattern, judges: Sequence[Judge], empty: float) -> dict[int, float]:
    """How likely each reading of a slot is, `empty` being the share of slots in which nothing was
    said.

    Who errs takes one of many words: two who have the same word are seldom both wrong.
    """
    classes = dict.fromkeys(chosen for chosen, _ in pattern)
    if len(classes) == 1:
        return dict.fromkeys(classes, 1.0)  # most slots: nobody has anything else
    classes[NOTHING] = None
    logs: dict[int, float] = {}
    for truth in classes:
        # Of what may have been said, this is one word of many as well.
        total = math.log(empty if truth == NOTHING else (1.0 - empty) / _OTHER_WORDS)
        for judge, (chosen, sure) in zip(judges, pattern, strict=True):
            total += math.log(_chance_of(judge, chosen, sure, truth))
        logs[truth] = total
    highest = max(logs.values())
    odds = {truth: math.exp(one - highest) for truth, one in logs.items()}
    whole = sum(odds.values())
    return {truth: one / whole for truth, one in odds.items()}


def _chance_of(judge: Judge, chosen: int, sure: int | None, truth: int) -> float:
    """That a transcript has what it has in a slot, if this is the truth."""
    if truth == NOTHING:
        if chosen == NOTHING:
            return 1.0 - judge.made_up
        return judge.made_up * (1.0 - judge.chance(sure)) / (1.0 - judge.overall) / _OTHER_WORDS
    if chosen == NOTHING:
        return judge.missing
    chance = judge.chance(sure)
    if chosen == truth:
        right = chance
    else:
        right = (1.0 - chance) / _OTHER_WORDS
    return right * (1.0 - judge.missing)


def _chance(right: float, total: float, usual: float) -> float:
    """A share, drawn towards the usual one where few words tell."""
    return min(_MOST, max(_LEAST, (right + _SMOOTHED * usual) / (total + _SMOOTHED)))


def winner(pattern: Pattern, judges: Sequence[Judge], empty: float) -> int:
    """The class that is taken."""
    likely = _likelihoods(pattern, judges, empty)
    return max(likely, key=lambda chosen: (likely[chosen], chosen != NOTHING))
