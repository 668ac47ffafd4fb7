"""Other readings of a passage that are worth showing."""

from mantisreed.transcript.document import Passage
from mantisreed.transcript.writing import words_of

_MOST = 5  # readings of a passage; nobody compares more


def other_readings(passage: Passage) -> list[str]:
    """The other readings of a passage, the likeliest first, without those that only write the same
    words in another way.
    """
    seen = {_said(passage.text)}
    found: list[str] = []
    for reading in passage.alternatives:
        said = _said(reading)
        if said and said not in seen:
            seen.add(said)
            found.append(reading)
    return found[:_MOST]


def _said(text: str) -> str:
    # Readings that differ in signs and capitals alone say the same.
    words = (word.strip(".,;:!?…\"'()[]«»„“”‚‘’").casefold() for word in words_of(text))
    return " ".join(filter(None, words))
