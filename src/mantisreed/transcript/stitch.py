"""Putting the readings of pieces together, with the times of the recording, without a trace of the
seams.
"""

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import chain, count, groupby

from msgspec.structs import replace
from rapidfuzz.distance import Levenshtein

from mantisreed.transcript.alignment import comparable
from mantisreed.transcript.document import Passage, Word, speakers_of
from mantisreed.transcript.punctuation import ends_sentence
from mantisreed.transcript.writing import excerpt, joined

_ONE_BREATH = 0.6  # seconds between two halves of a passage that a seam went through
_SAME_TIME = 1.0  # seconds between two hearings of one word at most
# seconds from the edge of a piece within which words are the less certain the nearer they are
_EDGE = 1.0
_INSIDE = 0.1  # seconds from an edge; words further inside should have been heard by both
_USUAL_CONFIDENCE = 0.8  # of engines that do not say
# seconds from the edge of a piece within which a word that nobody else heard is not believed
_BROKEN = 0.1
_CREDIBLE = 0.3  # confidence from which a word is kept that only one reading has


@dataclass(frozen=True, slots=True)
class PieceReading:
    """What was heard in one piece.

    Attributes:
        start, end: of the piece, in seconds from the recording's start.
        passages: times from the piece's start.
    """

    start: float
    end: float
    passages: tuple[Passage, ...]


@dataclass(frozen=True, slots=True)
class Stitched:
    """Passages with the recording's times, and what is doubtful about the seams.

    Attributes:
        passages: in order of time.
        notes: what a reader should know.
        differing: overlaps of pieces, (start, end) in seconds, whose two readings differ.
    """

    passages: tuple[Passage, ...]
    notes: tuple[str, ...]
    differing: tuple[tuple[float, float], ...] = ()


def stitch(readings: Sequence[PieceReading]) -> Stitched:
    """All passages in order of time; of what two overlapping pieces both heard, the better reading
    is kept.

    Speakers' labels, which an engine gives out anew in each piece, are matched by the words that
    both heard.
    """
    whole = _Whole()
    notes: list[str] = []
    unmatched: list[float] = []
    differing: list[tuple[float, float]] = []
    reached = 0.0
    for reading in readings:
        passages = [shifted(passage, reading.start) for passage in reading.passages]
        # `reached` is the end of what was heard, not of what was said in it: silence overlaps too.
        if not whole.is_empty and reading.start < reached:
            overlap = _Overlap(whole.take_from(reading.start), passages, reading.start, reached)
            whole.add_overlapped(overlap.joined())
            if overlap.is_doubtful:
                differing.append((reading.start, min(reached, reading.end)))
                middle = (reading.start + reached) / 2
                notes.append(f"the seam around {middle:.1f} s is doubtful: its two readings differ")
        else:
            if not whole.is_empty and whole.has_several_speakers_with(passages):
                unmatched.append(reading.start)
            whole.add(passages)
        reached = max(reached, reading.end)
    if unmatched:
        notes.append(
            "speakers were told apart piece by piece: labels may change hands at "
            f"{_listed(unmatched)}"
        )
    return Stitched(tuple(whole.passages()), tuple(notes), tuple(differing))


class _Whole:
    """All passages so far. Those that seams went through are kept in parts, which are put together
    once, at the end.

    A passage may go on over a thousand seams; putting it together at each of them would copy all
    its words each time.
    """

    def __init__(self) -> None:
        self._parts: list[list[Passage]] = []
        self._rest: Passage | None = (
            None  # what was taken last, if it is the end of a passage that is still here
        )
        self._speakers: set[str] = set()

    @property
    def is_empty(self) -> bool:
        return not self._parts

    def has_several_speakers_with(self, passages: Sequence[Passage]) -> bool:
        """Whether more than one speaker is in all passages and these."""
        return len(self._speakers | set(speakers_of(passages))) > 1

    def add(self, passages: Sequence[Passage]) -> None:
        """Add what comes behind a clean seam, which may have gone through a passage."""
        self._add(
            passages,
            is_one=bool(self._parts and passages) and _is_one(self._parts[-1][-1], passages[0]),
        )

    def take_from(self, start: float) -> list[Passage]:
        """Take out what ends after a time, in order; of a passage that begins before only the
        rest.
        """
        taken: list[Passage] = []
        self._rest = None
        while self._parts and self._parts[-1][-1].end > start:
            parts = self._parts[-1]
            head, rest = _cut(parts.pop(), start)
            taken.append(rest)
            if head is not None:
                parts.append(head)
            if parts:
                self._rest = rest  # its beginning is still here
            else:
                self._parts.pop()
        return taken[::-1]

    def add_overlapped(self, passages: Sequence[Passage]) -> None:
        """Add what an overlap was made into, instead of what was taken from it."""
        is_one = False
        if self._rest is not None and passages:
            last, first = self._parts[-1][-1], passages[0]
            is_same = (last.speaker, last.timing) == (first.speaker, first.timing)
            is_rest = any(first.words[:1] == (word,) for word in self._rest.words)
            # Begun with a word that was taken, it is one passage whatever pause lies before it.
            is_one = is_same and (is_rest or first.start - last.end <= _ONE_BREATH)
        self._add(passages, is_one=is_one)

    def passages(self) -> list[Passage]:
        """All passages, put together."""
        return list(map(_merged, self._parts))

    def _add(self, passages: Sequence[Passage], *, is_one: bool) -> None:
        for number, passage in enumerate(passages):
            if number == 0 and is_one:
                self._parts[-1].append(passage)
            else:
                self._parts.append([passage])
        self._speakers.update(speakers_of(passages))


def stitch_channels(channels: Mapping[int | None, Sequence[PieceReading]]) -> Stitched:
    """The readings of each channel put together, and all channels merged by time, talk at the same
    time kept.

    Args:
        channels: readings by the number of their channel, from 1; None where the channels were
            mixed. A channel that was sent alone is one speaker.
    """
    stitched = {
        channel: stitch(
            [
                _said_by(reading, f"channel {channel}") if channel else reading
                for reading in readings
            ]
        )
        for channel, readings in channels.items()
    }
    passages = sorted(
        chain.from_iterable(found.passages for found in stitched.values()),
        key=lambda p: p.start,
    )
    notes = []
    for channel, found in stitched.items():
        place = f"channel {channel}: " if channel else ""
        notes += [f"{place}{note}" for note in found.notes]
    differing = tuple(sorted(chain.from_iterable(found.differing for found in stitched.values())))
    return Stitched(tuple(passages), tuple(notes), differing)


def _said_by(reading: PieceReading, speaker: str) -> PieceReading:
    passages = tuple(replace(passage, speaker=speaker) for passage in reading.passages)
    return PieceReading(reading.start, reading.end, passages)


def shifted(passage: Passage, seconds: float) -> Passage:
    """The same passage, so much later."""
    words = (Word(w.text, w.start + seconds, w.end + seconds, w.confidence) for w in passage.words)
    return Passage(
        passage.start + seconds,
        passage.end + seconds,
        passage.text,
        passage.speaker,
        passage.timing,
        tuple(words),
        passage.alternatives,
    )


@dataclass(frozen=True, slots=True)
class _Heard:
    """One word as one of the pieces heard it, with the passage that it is in."""

    word: Word
    passage: Passage

    @property
    def middle(self) -> float:
        return (self.word.start + self.word.end) / 2


class _Overlap:
    """Seconds that two neighbouring pieces both hold, and what each heard in them.

    Readings are aligned word by word. Where both heard the same, or each something else, the
    reading further away from the edge of its piece is the better one, and the surer one. What only
    one heard is kept unless it lies at that piece's edge, where a cut may have made it up.
    """

    def __init__(
        self, before: Sequence[Passage], after: Sequence[Passage], start: float, end: float
    ) -> None:
        self._start, self._end = start, end
        self._before, self._after = before, after
        self._left = _words_of(before, lambda word: word.end > start)
        self._right = _words_of(after, lambda word: word.start < end)
        self._shared = _shared_words(self._left, self._right)

    @property
    def is_doubtful(self) -> bool:
        """Whether the two readings share less than half of their words, those at the edges left
        aside.
        """
        inside = [
            sum(
                self._start + _INSIDE <= h.word.start and h.word.end <= self._end - _INSIDE
                for h in heard
            )
            for heard in (self._left, self._right)
        ]
        return len(self._shared) * 2 < max(inside)

    def joined(self) -> list[Passage]:
        """All passages of both sides, the speakers called as in the earlier one."""
        names = self._names()
        middle = (self._start + self._end) / 2
        earlier = _words_of(self._before, lambda word: word.end <= self._start)
        later = _words_of(self._after, lambda word: word.start >= self._end)
        # Passages without words cannot be aligned: each side gives those of its own half.
        timeless = [p for p in self._before if not p.words and (p.start + p.end) / 2 <= middle]
        timeless += [p for p in self._after if not p.words and (p.start + p.end) / 2 > middle]
        ours = set(map(id, self._before))

        def named(heard: _Heard) -> str | None:
            speaker = heard.passage.speaker
            if id(heard.passage) in ours:
                return speaker
            return names.get(speaker, speaker)

        passages = _passages_of([*earlier, *self._chosen(), *later], named)
        return sorted([*passages, *timeless], key=lambda passage: passage.start)

    def _names(self) -> dict[str | None, str | None]:
        """What the later piece calls each speaker, and what the earlier one does."""
        pairs = Counter(
            (self._left[n].passage.speaker, self._right[m].passage.speaker)
            for n, m in self._shared
            if self._left[n].passage.speaker is not None
            and self._right[m].passage.speaker is not None
        )
        names: dict[str | None, str | None] = {}
        # The most shared words first: a word given to the wrong speaker must not take a name that
        # most of the overlap gives to another.
        for (ours, theirs), _ in pairs.most_common():
            if theirs not in names and ours not in names.values():
                names[theirs] = ours
        for label in speakers_of(self._after):
            # Who speaks first only behind the overlap must not be called as somebody before it.
            if names and label not in names:
                names[label] = _free_label(label, names.values())
        return names

    def _chosen(self) -> list[_Heard]:
        chosen: list[_Heard] = []
        n = m = 0
        for at_left, at_right in self._shared:
            chosen += self._better(self._left[n:at_left], self._right[m:at_right])
            # The same word twice: its times are better where its piece goes on longer around it.
            ours, theirs = self._left[at_left], self._right[at_right]
            chosen.append(
                ours if self._end - ours.middle >= theirs.middle - self._start else theirs
            )
            n, m = at_left + 1, at_right + 1
        return chosen + self._better(self._left[n:], self._right[m:])

    def _better(self, ours: list[_Heard], theirs: list[_Heard]) -> list[_Heard]:
        """Of what the two heard differently, moment by moment, the better reading."""
        chosen: list[_Heard] = []
        for left, right in _moments(ours, theirs):
            if left and right:
                surer = _mean(
                    [_certainty(heard, self._end - heard.word.end) for heard in left]
                ) >= _mean([_certainty(heard, heard.word.start - self._start) for heard in right])
                chosen += left if surer else right
            elif (heard := (left or right)[0]) and self._is_credible(heard, is_ours=bool(left)):
                chosen.append(heard)
        return chosen

    def _is_credible(self, heard: _Heard, *, is_ours: bool) -> bool:
        """Whether to keep a word that only one heard: at the very edge it may be the rest of one
        that was cut.
        """
        word = heard.word
        if not self._shared and self._left and self._right:  # then times do not tell either
            return (heard.middle <= (self._start + self._end) / 2) == is_ours
        if is_ours:
            is_broken = self._end - word.end < _BROKEN and word.start > self._start
        else:
            is_broken = word.start - self._start < _BROKEN and word.end < self._end
        return not is_broken and (word.confidence is None or word.confidence >= _CREDIBLE)


def _moments(
    ours: list[_Heard], theirs: list[_Heard]
) -> Iterator[tuple[list[_Heard], list[_Heard]]]:
    """Words of two readings side by side: those at the same time together, the others alone."""
    n = m = 0
    while n < len(ours) or m < len(theirs):
        if m == len(theirs) or (
            n < len(ours) and not _at_once(ours[n], theirs[m]) and _first(ours[n], theirs[m])
        ):
            yield [ours[n]], []
            n += 1
        elif n == len(ours) or not _at_once(ours[n], theirs[m]):
            yield [], [theirs[m]]
            m += 1
        else:
            left, right = [ours[n]], [theirs[m]]
            n, m = n + 1, m + 1
            while n < len(ours) and _at_once(ours[n], right[-1]):
                left.append(ours[n])
                n += 1
            while m < len(theirs) and _at_once(left[-1], theirs[m]):
                right.append(theirs[m])
                m += 1
            yield left, right


def _first(one: _Heard, other: _Heard) -> bool:
    return one.middle <= other.middle


def _at_once(one: _Heard, other: _Heard) -> bool:
    """Whether two words share more than half of the shorter one's time."""
    shared = min(one.word.end, other.word.end) - max(one.word.start, other.word.start)
    return shared > 0.5 * min(one.word.end - one.word.start, other.word.end - other.word.start)


def _words_of(passages: Sequence[Passage], wanted: Callable[[Word], bool]) -> list[_Heard]:
    found = []
    for passage in passages:
        found.extend([_Heard(word, passage) for word in passage.words if wanted(word)])
    return found


def _shared_words(left: Sequence[_Heard], right: Sequence[_Heard]) -> list[tuple[int, int]]:
    """Places of the words that both heard at about the same time, in order."""
    ours, theirs = [_bare(heard.word) for heard in left], [_bare(heard.word) for heard in right]
    found = []
    for block in Levenshtein.opcodes(ours, theirs).as_matching_blocks():
        found.extend(
            [
                (block.a + n, block.b + n)
                for n in range(block.size)
                if abs(left[block.a + n].word.start - right[block.b + n].word.start) < _SAME_TIME
            ]
        )
    return found


def _bare(word: Word) -> str:
    return " ".join(comparable(word.text))


def _certainty(heard: _Heard, from_edge: float) -> float:
    """How far a word can be believed that ends so many seconds from the edge of its piece."""
    confidence = _USUAL_CONFIDENCE if heard.word.confidence is None else heard.word.confidence
    # A model that lacks what comes next guesses, and is often sure of its guess.
    return confidence * min(1.0, max(0.0, from_edge) / _EDGE)


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values)


def _passages_of(
    words: Sequence[_Heard], speaker_of: Callable[[_Heard], str | None]
) -> list[Passage]:
    """Words in order as passages: those they were in, mended where the words of one were parted."""
    found: list[Passage] = []
    was_whole = True
    for _, group in groupby(words, key=lambda heard: id(heard.passage)):
        kept = list(group)
        passage = kept[0].passage
        is_whole = len(kept) == len(passage.words)
        part = passage if is_whole else _part(passage, tuple(heard.word for heard in kept))
        if part.speaker != (speaker := speaker_of(kept[0])):
            part = replace(part, speaker=speaker)
        if found and not (was_whole and is_whole) and _is_one(found[-1], part, inside=True):
            found[-1] = _merged([found[-1], part])
        else:
            found.append(part)
        was_whole = is_whole
    return found


def _part(passage: Passage, words: tuple[Word, ...]) -> Passage:
    first = next(at for at, word in enumerate(passage.words) if word is words[0])
    last = first + len(words)
    if passage.words[first:last] == words:
        text = excerpt(passage.text, [word.text for word in passage.words], first, last)
    else:
        text = joined(word.text for word in words)
    end = max(word.end for word in words)
    return Passage(words[0].start, end, text, passage.speaker, passage.timing, words)


def _cut(passage: Passage, start: float) -> tuple[Passage | None, Passage]:
    """What a passage holds up to a time, and the rest; all of it is rest where it cannot be cut
    there.
    """
    count = next(
        (at for at, word in enumerate(passage.words) if word.end > start),
        len(passage.words),
    )
    if count in (0, len(passage.words)):
        return None, passage
    return _part(passage, passage.words[:count]), _part(passage, passage.words[count:])


def _free_label(label: str, taken: Collection[str | None]) -> str:
    """The label, or with a number behind it when somebody else has it."""
    return next(
        name for n in count(1) if (name := label if n == 1 else f"{label}-{n}") not in taken
    )


def _listed(moments: Sequence[float]) -> str:
    shown = ", ".join(f"{moment:.1f}" for moment in moments[:5])
    if len(moments) <= 5:
        return f"{shown} s"
    return f"{shown} s and {len(moments) - 5} more"


def _is_one(before: Passage, after: Passage, *, inside: bool = False) -> bool:
    """Whether a seam has gone through what is one passage; `inside` one that one of the pieces
    heard as such.
    """
    return (
        before.speaker == after.speaker
        and before.timing == after.timing
        and after.start - before.end <= _ONE_BREATH
        and (inside or not ends_sentence(before.text))
    )


def _merged(parts: Sequence[Passage]) -> Passage:
    """The parts of one passage, put together; what an engine thought of instead is only kept of a
    whole one.
    """
    if len(parts) == 1:
        return parts[0]
    first = parts[0]
    return Passage(
        first.start,
        max(part.end for part in parts),
        joined(part.text for part in parts),
        first.speaker,
        first.timing,
        tuple(chain.from_iterable(part.words for part in parts)),
    )
