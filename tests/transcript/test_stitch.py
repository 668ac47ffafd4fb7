"""Readings of pieces put together without a trace."""

import random

from hypothesis import given
from hypothesis import strategies as st

from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.stitch import PieceReading, stitch

SAID = [Word(f"word{n}", n * 0.5, n * 0.5 + 0.4, 0.9) for n in range(80)]  # 40 seconds without a pause


def heard(start: float, end: float, chance: random.Random | None = None, mistakes: float = 0.0) -> PieceReading:
    """What an engine hears between two moments: whole words, some of them wrongly, at times that waver."""
    words = []
    for word in SAID:
        if word.start >= start and word.end <= end:
            wrong = chance is not None and chance.random() < mistakes
            waver = chance.uniform(-0.05, 0.05) if chance else 0.0
            at = max(0.0, word.start - start + waver)
            words.append(Word(f"{word.text}{'x' * wrong}", at, at + 0.4, 0.9))
    text = " ".join(word.text for word in words)
    return PieceReading(start, end, (Passage(words[0].start, words[-1].end, text, words=tuple(words)),))


def test_a_clean_seam_gives_times_of_the_recording_and_one_passage() -> None:
    stitched = stitch([heard(0.0, 19.95), heard(19.95, 40.0)])
    (passage,) = stitched.passages
    assert [word.text for word in passage.words] == [word.text for word in SAID]
    assert all(abs(word.start - true.start) < 1e-6 for word, true in zip(passage.words, SAID, strict=True))
    assert stitched.notes == ()


@given(st.integers(0, 10_000), st.sampled_from([0.0, 0.1, 0.3]), st.floats(2.0, 5.0))
def test_no_word_is_lost_or_doubled_at_an_overlapped_seam_even_when_readings_differ(
    seed: int, mistakes: float, overlap: float
) -> None:
    chance = random.Random(seed)
    cut = chance.uniform(15, 25)
    stitched = stitch([heard(0.0, cut + overlap, chance, mistakes), heard(cut, 40.0, chance, mistakes)])
    words = [word.text.rstrip("x") for passage in stitched.passages for word in passage.words]
    assert words == [word.text for word in SAID]
    assert len(stitched.passages) == 1


def test_a_seam_whose_readings_share_no_word_is_noted() -> None:
    other = PieceReading(18.0, 40.0, (Passage(0.0, 5.0, "mist", words=(Word("mist", 0.0, 5.0),)),))
    assert stitch([heard(0.0, 22.0), other]).notes == ("the seam around 20.0 s is doubtful: its two readings differ",)


def test_sentences_speakers_and_pauses_stay_apart() -> None:
    def piece(start: float, text: str, speaker: str | None = None) -> PieceReading:
        return PieceReading(start, start + 5, (Passage(0.2, 4.9, text, speaker),))

    readings = [piece(0, "Nets closed."), piece(5, "Tea", "a"), piece(10, "or", "b"), piece(20, "coffee", "b")]
    assert [p.text for p in stitch(readings).passages] == ["Nets closed.", "Tea", "or", "coffee"]
    joined = stitch([piece(0, "Tea or"), piece(5, "coffee?")])
    assert [p.text for p in joined.passages] == ["Tea or coffee?"]
