"""One transcript out of several of the same recording: a vote word by word over a confusion
network.

The transcripts are aligned one after the other, the one that agrees most with all others first,
into a row of slots, each of which holds what every transcript has there: a word, or nothing. In
each slot the likeliest reading wins. How often a transcript is right, misses a word or makes one up
is estimated from how they agree, for each range of its own confidences.
"""

import math
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain

import msgspec

from mantisreed.errors import InputError
from mantisreed.review.aligning import aligned_runs, changes_in
from mantisreed.review.doubts import doubt_of
from mantisreed.review.judging import BINS, NOTHING, Judge, Pattern, judges_of, winner
from mantisreed.review.normalising import key_of
from mantisreed.review.runs import runs_where
from mantisreed.transcript.document import Doubt, Passage, Transcript, Word, speakers_of
from mantisreed.transcript.estimate import passages_over_speech
from mantisreed.transcript.writing import joined

_LONGEST_RUN = 400  # words that differ in a row and are aligned again with all that a slot holds
_FOREIGN = 0.7  # share of words that differ, from which a transcript is of something else
_CONTESTED = 3  # places in a row that are told as a doubt
_TIMINGS = {"engine": 0, "aligned": 1, "estimated": 2}


@dataclass(frozen=True, slots=True)
class VotedReading:
    """What one transcript has in a slot.

    Attributes:
        key: as it is compared.
        word: with its times.
        passage: the number of its passage.
        sure: the range of its confidence; None where the engine does not say.
    """

    key: str
    word: Word
    passage: int
    sure: int | None


@dataclass(slots=True)
class Slot:
    """A place in the network: by transcript what it has there, None for nothing."""

    readings: list[VotedReading | None]


@dataclass(frozen=True, slots=True)
class Voted:
    """What came out of a vote.

    Attributes:
        transcript: the one out of all.
        agreement: by pairs of transcripts: the share of slots in which they have the same.
        weights: by transcript: how often it was right, as the others have it.
        overruled: by transcript: how many of its words were not taken.
        disputed: how many slots were not unanimous.
    """

    transcript: Transcript
    agreement: list[list[float]]
    weights: list[float]
    overruled: list[int]
    disputed: int


def aligned_transcripts(transcripts: Sequence[Transcript]) -> tuple[list[Slot], list[int]]:
    """All transcripts in one row of slots, and the order in which they were put into it, the most
    central one first.

    Raises:
        InputError: there are fewer than two, one has no words, or one is of something else.
    """
    if len(transcripts) < 2:
        raise InputError("a vote needs two transcripts, better three")
    rows = [list(_readings(transcript)) for transcript in transcripts]
    for number, row in enumerate(rows, 1):
        if not row:
            raise InputError(f"transcript {number} has no words")
    order = _order(rows)
    return _network(rows, order), order


def voted(transcripts: Sequence[Transcript]) -> Voted:
    """One transcript out of several.

    Args:
        transcripts: two or more of one recording, by any engines.

    Raises:
        InputError: there are fewer than two, one has no words, or one is of something else.
    """
    slots, order = aligned_transcripts(transcripts)
    count = len(transcripts)
    # Thousands of slots have a few hundred patterns, and a vote depends on nothing else.
    patterns = list(map(_pattern, slots))
    judges, empty = judges_of(Counter(patterns), count)
    winners = {pattern: winner(pattern, judges, empty) for pattern in set(patterns)}
    chosen = [
        _key_of(slot, winners[pattern]) for slot, pattern in zip(slots, patterns, strict=True)
    ]
    passages = tuple(_passages(slots, chosen, judges, transcripts, order[0]))
    base = transcripts[order[0]]
    disputed = sum(
        len({reading.key if reading else None for reading in slot.readings}) > 1 for slot in slots
    )
    anew = msgspec.structs.replace(
        base,
        engine="",
        job="",
        passages=passages,
        speakers=speakers_of(passages),
        notes=(
            f"voted by {count} transcripts; {disputed} of {len(slots)} places were not unanimous",
        ),
        doubts=tuple(_contested(slots, chosen)),
        replacements=(),
    )
    overruled = [
        sum(
            slot.readings[number] is not None and (key is None or slot.readings[number].key != key)  # type: ignore[union-attr]
            for slot, key in zip(slots, chosen, strict=True)
        )
        for number in range(count)
    ]
    weights = [round(judge.overall, 4) for judge in judges]
    return Voted(anew, agreement(slots, count), weights, overruled, disputed)


def _readings(transcript: Transcript) -> Iterator[VotedReading]:
    for number, passage in enumerate(passages_over_speech(transcript.passages, ())):
        for word in passage.words:
            # Hesitations keep their keys: without one, any two of them would be the same nothing.
            key = key_of(word.text, transcript.language, ("hesitations",))
            if word.confidence is None:
                sure = None
            else:
                sure = _bin(word.confidence)
            yield VotedReading(key, word, number, sure)


def _order(rows: Sequence[Sequence[VotedReading]]) -> list[int]:
    """The transcripts in the order in which they are aligned, the one nearest to all others first.

    Raises:
        InputError: one has hardly anything in common with the others.
    """
    keys = [[reading.key for reading in row] for row in rows]
    shares = [[0.0] * len(rows) for _ in rows]
    for one in range(len(rows)):
        for other in range(one):
            apart = changes_in(aligned_runs(keys[one], keys[other], is_exact=False))
            shares[one][other] = shares[other][one] = apart / max(len(keys[one]), len(keys[other]))
    for number, row in enumerate(shares):
        nearest = min(share for other, share in enumerate(row) if other != number)
        if nearest > _FOREIGN:
            raise InputError(
                f"transcript {number + 1} has hardly a word in common with the others",
                advice="are all of the same recording?",
            )
    first = min(range(len(rows)), key=lambda number: sum(shares[number]))
    return sorted(range(len(rows)), key=lambda number: shares[first][number])


def _network(rows: Sequence[Sequence[VotedReading]], order: Sequence[int]) -> list[Slot]:
    """All transcripts in one row of slots."""
    count = len(rows)

    def slot_of(number: int, reading: VotedReading) -> Slot:
        readings: list[VotedReading | None] = [None] * count
        readings[number] = reading
        return Slot(readings)

    slots = [slot_of(order[0], reading) for reading in rows[order[0]]]
    for number in order[1:]:
        slots = _with_row(slots, number, rows[number], slot_of)
    return slots


def _with_row(
    slots: Sequence[Slot],
    number: int,
    row: Sequence[VotedReading],
    slot_of: Callable[[int, VotedReading], Slot],
) -> list[Slot]:
    """The network with one more transcript in it."""
    main = list(map(_most_common, slots))
    keys = [reading.key for reading in row]
    grown: list[Slot] = []

    def add(first: int, last: int, begin: int, end: int) -> None:
        """Slots [first, last) and readings [begin, end) that differ from what most have there."""
        for at, to in _pairs(slots[first:last], keys[begin:end]):
            if at is None:
                assert to is not None
                grown.append(slot_of(number, row[begin + to]))
                continue
            slot = slots[first + at]
            if to is not None:
                slot.readings[number] = row[begin + to]
            grown.append(slot)

    first = begin = 0
    for run in aligned_runs(main, keys, is_exact=False):
        if run.tag != "equal":
            continue
        add(first, run.first, begin, run.begin)
        for slot, reading in zip(
            slots[run.first : run.last], row[run.begin : run.end], strict=True
        ):
            slot.readings[number] = reading
            grown.append(slot)
        first, begin = run.last, run.end
    add(first, len(slots), begin, len(keys))
    return grown


def _most_common(slot: Slot) -> str:
    keys = [reading.key for reading in slot.readings if reading is not None]
    # Of two that differ the first is as good: most slots need no counting.
    if len(keys) < 3 or keys[0] == keys[1] == keys[-1]:
        return keys[0]
    return Counter(keys).most_common(1)[0][0]


def _pairs(slots: Sequence[Slot], keys: Sequence[str]) -> list[tuple[int | None, int | None]]:
    """Which key goes into which slot, where a key fits a slot if any transcript has it there.

    By the usual recurrence of the edit distance; a run that is very long is paired from its
    beginning.
    """
    if not slots or not keys or len(slots) > _LONGEST_RUN or len(keys) > _LONGEST_RUN:
        shared = min(len(slots), len(keys))
        pairs: list[tuple[int | None, int | None]] = [(at, at) for at in range(shared)]
        pairs += [(at, None) for at in range(shared, len(slots))]
        return pairs + [(None, to) for to in range(shared, len(keys))]
    fits = _Fits(slots, keys)
    costs = fits.costs()
    found: list[tuple[int | None, int | None]] = []
    at, to = len(slots), len(keys)
    while at or to:
        here = costs[at][to]
        if at and to and math.isclose(here, costs[at - 1][to - 1] + fits.cost(at - 1, to - 1)):
            at, to = at - 1, to - 1
            found.append((at, to))
        elif at and math.isclose(here, costs[at - 1][to] + fits.skips[at - 1]):
            at -= 1
            found.append((at, None))
        else:
            to -= 1
            found.append((None, to))
    found.reverse()
    return found


class _Fits:
    """What it costs to put keys into slots, or to leave either out.

    Attributes:
        skips: the cost of each slot that gets no key. One that some transcript leaves empty is
            skipped at less cost than one that all have filled so far.
    """

    def __init__(self, slots: Sequence[Slot], keys: Sequence[str]) -> None:
        readings = [[one for one in slot.readings if one is not None] for slot in slots]
        self._keys = keys
        self._held = [{reading.key for reading in held} for held in readings]
        self.skips = [0.7 if len(held) < 2 else 1.0 for held in readings]

    def cost(self, at: int, to: int) -> float:
        """Of a key in a slot."""
        return 0.0 if self._keys[to] in self._held[at] else 1.05

    def costs(self) -> list[list[float]]:
        """Least costs of all beginnings: so many slots, so many keys."""
        costs = [list(map(float, range(len(self._keys) + 1)))]
        for at, skip in enumerate(self.skips):
            above = costs[-1]
            line = [above[0] + skip]
            for to in range(len(self._keys)):
                same = above[to] + self.cost(at, to)
                line.append(min(same, above[to + 1] + skip, line[to] + 1.0))
            costs.append(line)
        return costs


def _bin(sure: float) -> int:
    return min(BINS - 1, int(sure * BINS))


def _pattern(slot: Slot) -> Pattern:
    classes: dict[str, int] = {}
    return tuple(
        (NOTHING, None)
        if reading is None
        else (classes.setdefault(reading.key, len(classes)), reading.sure)
        for reading in slot.readings
    )


def _key_of(slot: Slot, chosen: int) -> str | None:
    """The key that a class of a slot's pattern stands for."""
    if chosen == NOTHING:
        return None
    return list(dict.fromkeys(reading.key for reading in slot.readings if reading is not None))[
        chosen
    ]


def _contested(slots: Sequence[Slot], chosen: Sequence[str | None]) -> Iterator[Doubt]:
    """Runs of places in which no more than half of the transcripts have what was taken."""
    flags = []
    for slot, key in zip(slots, chosen, strict=True):
        alike = sum((reading.key if reading else None) == key for reading in slot.readings)
        flags.append(2 * alike <= len(slot.readings))
    for first, last in runs_where(flags):
        # One word that is heard in two ways is what a vote is for; more of them are somebody's to
        # listen to.
        if last - first < _CONTESTED:
            continue
        readings = chain.from_iterable(slot.readings for slot in slots[first:last])
        words = [reading.word for reading in readings if reading is not None]
        start, end = min(word.start for word in words), max(word.end for word in words)
        why = (
            f"the transcripts differ on {last - first} words in a row, and no more than half "
            "have this"
        )
        yield doubt_of("disagreement", start, end, why, 0.4 + 0.05 * (last - first))


def _passages(
    slots: Sequence[Slot],
    chosen: Sequence[str | None],
    judges: Sequence[Judge],
    transcripts: Sequence[Transcript],
    base: int,
) -> Iterator[Passage]:
    """The words that won, in the passages of the transcript that agrees most with the others."""
    ranks = list(map(_timing_rank, transcripts))
    with_speakers = [number for number, transcript in enumerate(transcripts) if transcript.speakers]
    if with_speakers:
        voice = max(with_speakers, key=lambda number: judges[number].overall)
    else:
        voice = None
    words: list[Word] = []
    speaker: str | None = None
    passage, latest = -1, 0.0

    def closed() -> Iterator[Passage]:
        if words:
            text = joined(word.text for word in words)
            if passage >= 0:
                timing = transcripts[base].passages[passage].timing
            else:
                timing = "engine"
            yield Passage(
                words[0].start, max(word.end for word in words), text, speaker, timing, tuple(words)
            )
            words.clear()

    for slot, key in zip(slots, chosen, strict=True):
        of_base = slot.readings[base]
        now = of_base.passage if of_base is not None else passage
        of_voice = slot.readings[voice] if voice is not None else None
        if voice is not None and of_voice:
            speaks = transcripts[voice].passages[of_voice.passage].speaker
        else:
            speaks = speaker
        if now != passage or (speaks != speaker and key is not None):
            yield from closed()
            passage, speaker = now, speaks
        if key is not None:
            words.append(_elected(slot, key, judges, ranks, latest))
            latest = words[-1].start
    yield from closed()


def _elected(
    slot: Slot, key: str, judges: Sequence[Judge], ranks: Sequence[int], latest: float
) -> Word:
    """The word that won in a slot.

    Args:
        slot: what each transcript has there.
        key: the word that won, as it is compared.
        judges: how far each transcript is to be believed.
        ranks: how well each is timed, 0 for the best.
        latest: where the word before begins, in seconds.
    """
    voters = [
        (number, reading)
        for number, reading in enumerate(slot.readings)
        if reading and reading.key == key
    ]
    written = Counter(reading.word.text for _, reading in voters)
    most = max(written.values())
    text = next(reading.word.text for _, reading in voters if written[reading.word.text] == most)
    # Words are voted for, times are not averaged: the best timed of those who have the word.
    _, timed = min(voters, key=lambda voter: (ranks[voter[0]], -judges[voter[0]].overall))
    unsure = math.prod(1.0 - judges[number].chance(reading.sure) for number, reading in voters)
    # Times of different engines may cross by a few hundredths; words never go back.
    start = max(timed.word.start, latest)
    return Word(text, start, max(timed.word.end, start), round(1.0 - unsure, 3))


def _timing_rank(transcript: Transcript) -> int:
    """How well a transcript's words are timed: 0 for the best."""
    return max((_TIMINGS[passage.timing] for passage in transcript.passages), default=0)


def agreement(slots: Sequence[Slot], count: int) -> list[list[float]]:
    """For each pair of so many transcripts the share of the slots that either fills in which both
    have the same.
    """
    table = [[1.0] * count for _ in range(count)]
    for one in range(count):
        for other in range(one):
            both = [
                (slot.readings[one], slot.readings[other])
                for slot in slots
                if slot.readings[one] or slot.readings[other]
            ]
            same = sum(a is not None and b is not None and a.key == b.key for a, b in both)
            table[one][other] = table[other][one] = round(same / max(1, len(both)), 4)
    return table
