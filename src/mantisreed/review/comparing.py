"""Several engines' transcripts of one recording side by side: how far they agree, and where they
differ.
"""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain

from mantisreed.review.voting import Slot, agreement, aligned_transcripts
from mantisreed.transcript.document import Transcript

_JOINED = 2  # slots that agree between two differences that are shown as one


@dataclass(frozen=True, slots=True)
class Difference:
    """A stretch that transcripts tell differently.

    Attributes:
        start, end: seconds.
        readings: what each transcript has there, in their order; empty for nothing.
        words: the most that one of them has.
        odd: by transcript whether it stands alone against a majority.
    """

    start: float
    end: float
    readings: tuple[str, ...]
    words: int
    odd: tuple[bool, ...]


@dataclass(frozen=True, slots=True)
class Comparison:
    """How several transcripts of one recording compare.

    Attributes:
        agreement: by pairs the share of places in which they have the same word.
        differences: by time.
        duration: of the recording, in seconds.
    """

    agreement: list[list[float]]
    differences: tuple[Difference, ...]
    duration: float


def compared(transcripts: Sequence[Transcript]) -> Comparison:
    """Transcripts of one recording, word by word.

    Raises:
        InputError: there are fewer than two, one has no words, or one is of something else.
    """
    slots, _ = aligned_transcripts(transcripts)
    duration = max(transcript.recording.duration for transcript in transcripts)
    return Comparison(
        agreement(slots, len(transcripts)), tuple(_differences(slots, len(transcripts))), duration
    )


def _differences(slots: Sequence[Slot], count: int) -> Iterator[Difference]:
    """Runs of slots that are not unanimous; a word or two that are do not part them."""
    differing = [at for at, slot in enumerate(slots) if len(set(_keys(slot))) > 1]
    at = 0
    while at < len(differing):
        last = at
        while last + 1 < len(differing) and differing[last + 1] - differing[last] <= _JOINED:
            last += 1
        yield _difference(slots[differing[at] : differing[last] + 1], count)
        at = last + 1


def _keys(slot: Slot) -> list[str | None]:
    return [reading.key if reading is not None else None for reading in slot.readings]


def _difference(slots: Sequence[Slot], count: int) -> Difference:
    texts: list[list[str]] = [[] for _ in range(count)]
    odd = [False] * count
    readings = chain.from_iterable(slot.readings for slot in slots)
    words = [reading.word for reading in readings if reading is not None]
    for slot in slots:
        keys = _keys(slot)
        (usual, votes), *_ = Counter(keys).most_common(1)
        for number, reading in enumerate(slot.readings):
            if reading is not None:
                texts[number].append(reading.word.text)
            if 2 * votes > count and keys[number] != usual:
                odd[number] = True
    return Difference(
        round(min(word.start for word in words), 3),
        round(max(word.end for word in words), 3),
        tuple(" ".join(own) for own in texts),
        max(map(len, texts)),
        tuple(odd),
    )
