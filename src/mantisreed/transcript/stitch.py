"""Putting the readings of pieces together, with the times of the recording, without a trace of the seams."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from rapidfuzz.distance import Levenshtein

from mantisreed.transcript.alignment import comparable
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.punctuation import ends_sentence

_ONE_BREATH = 0.6  # seconds between two halves of a passage that a seam went through


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
    """Passages with the recording's times, and what is doubtful about the seams."""

    passages: tuple[Passage, ...]
    notes: tuple[str, ...]


def stitch(readings: Sequence[PieceReading]) -> Stitched:
    """All passages in order of time; of what two overlapping pieces both heard, one reading is kept."""
    whole: list[Passage] = []
    notes: list[str] = []
    reached = 0.0
    for reading in readings:
        passages = [shifted(passage, reading.start) for passage in reading.passages]
        if whole and reading.start < reached:
            whole, passages, sure = _joined(whole, passages, reading.start, reached)
            if not sure:
                middle = (reading.start + reached) / 2
                notes.append(f"the seam around {middle:.1f} s is doubtful: its two readings differ")
        if whole and passages and _is_one(whole[-1], passages[0]):
            whole[-1] = _merged(whole[-1], passages.pop(0))
        whole += passages
        reached = max(reached, reading.end)
    return Stitched(tuple(whole), tuple(notes))


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


def _joined(
    before: list[Passage], after: list[Passage], start: float, end: float
) -> tuple[list[Passage], list[Passage], bool]:
    """Both sides of an overlap [start, end], each without what the other keeps, and whether they share a word.

    The seam is laid behind a word that both heard, the one nearest to the middle, so that none is lost or doubled
    even where the readings differ in time.
    """
    left = [word for passage in before for word in passage.words if word.end > start]
    right = [word for passage in after for word in passage.words if word.start < end]
    middle = (start + end) / 2
    pair = _common_word(left, right, middle)
    if pair is None:
        return _cut_before(before, middle), _cut_after(after, middle), not (left or right)
    ours, theirs = pair
    return _cut_before(before, ours.end), _cut_after(after, theirs.end), True


def _common_word(left: Sequence[Word], right: Sequence[Word], middle: float) -> tuple[Word, Word] | None:
    ours, theirs = [_bare(word) for word in left], [_bare(word) for word in right]
    pairs = [
        (left[block.a + n], right[block.b + n])
        for block in Levenshtein.opcodes(ours, theirs).as_matching_blocks()
        for n in range(block.size)
    ]
    near = [(a, b) for a, b in pairs if abs(a.start - b.start) < 1.0]
    return min(near, key=lambda pair: abs((pair[0].start + pair[0].end) / 2 - middle), default=None)


def _bare(word: Word) -> str:
    return " ".join(comparable(word.text))


def _cut_before(passages: Sequence[Passage], time: float) -> list[Passage]:
    """What begins before a time."""
    return _only(passages, lambda word: (word.start + word.end) / 2 <= time)


def _cut_after(passages: Sequence[Passage], time: float) -> list[Passage]:
    """What begins after a time."""
    return _only(passages, lambda word: (word.start + word.end) / 2 > time)


def _only(passages: Sequence[Passage], keep: Callable[[Word], bool]) -> list[Passage]:
    kept = []
    for passage in passages:
        words = tuple(word for word in passage.words if keep(word))
        if len(words) == len(passage.words):
            kept.append(passage)
        elif words:
            text = " ".join(word.text for word in words)
            end = max(word.end for word in words)
            kept.append(Passage(words[0].start, end, text, passage.speaker, passage.timing, words))
    return kept


def _is_one(before: Passage, after: Passage) -> bool:
    """Whether a seam has gone through what is one passage."""
    return (
        before.speaker == after.speaker
        and before.timing == after.timing
        and after.start - before.end <= _ONE_BREATH
        and not ends_sentence(before.text)
    )


def _merged(before: Passage, after: Passage) -> Passage:
    return Passage(
        before.start,
        max(before.end, after.end),
        f"{before.text} {after.text}",
        before.speaker,
        before.timing,
        (*before.words, *after.words),
    )
