"""Readings of pieces put together without a trace."""

import random
import sys
from types import FrameType
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.stitch import PieceReading, stitch, stitch_channels

# 40 seconds without a pause.
SAID = [Word(f"word{n}", n * 0.5, n * 0.5 + 0.4, 0.9) for n in range(80)]


def heard(
    start: float, end: float, chance: random.Random | None = None, mistakes: float = 0.0
) -> PieceReading:
    """What an engine hears between two moments: whole words, some of them wrongly, at times that
    waver.
    """
    words = []
    for word in SAID:
        if word.start >= start and word.end <= end:
            wrong = chance is not None and chance.random() < mistakes
            waver = chance.uniform(-0.05, 0.05) if chance else 0.0
            at = max(0.0, word.start - start + waver)
            words.append(Word(f"{word.text}{'x' * wrong}", at, at + 0.4, 0.9))
    text = " ".join(word.text for word in words)
    return PieceReading(
        start, end, (Passage(words[0].start, words[-1].end, text, words=tuple(words)),)
    )


def test_a_clean_seam_gives_times_of_the_recording_and_one_passage() -> None:
    stitched = stitch([heard(0.0, 19.95), heard(19.95, 40.0)])
    (passage,) = stitched.passages
    assert [word.text for word in passage.words] == [word.text for word in SAID]
    assert all(
        abs(word.start - true.start) < 1e-6 for word, true in zip(passage.words, SAID, strict=True)
    )
    assert stitched.notes == ()


@given(st.integers(0, 10_000), st.sampled_from([0.0, 0.1, 0.3]), st.floats(2.0, 5.0))
def test_no_word_is_lost_or_doubled_at_an_overlapped_seam_even_when_readings_differ(
    seed: int, mistakes: float, overlap: float
) -> None:
    chance = random.Random(seed)
    cut = chance.uniform(15, 25)
    stitched = stitch(
        [heard(0.0, cut + overlap, chance, mistakes), heard(cut, 40.0, chance, mistakes)]
    )
    words = [word.text.rstrip("x") for passage in stitched.passages for word in passage.words]
    assert words == [word.text for word in SAID]
    assert len(stitched.passages) == 1


def test_a_seam_whose_readings_share_no_word_is_noted() -> None:
    other = PieceReading(18.0, 40.0, (Passage(0.0, 5.0, "mist", words=(Word("mist", 0.0, 5.0),)),))
    assert stitch([heard(0.0, 22.0), other]).notes == (
        "the seam around 20.0 s is doubtful: its two readings differ",
    )


def test_sentences_speakers_and_pauses_stay_apart() -> None:
    def piece(start: float, text: str, speaker: str | None = None) -> PieceReading:
        return PieceReading(start, start + 5, (Passage(0.2, 4.9, text, speaker),))

    readings = [
        piece(0, "Nets closed."),
        piece(5, "Tea", "a"),
        piece(10, "or", "b"),
        piece(20, "coffee", "b"),
    ]
    assert [p.text for p in stitch(readings).passages] == ["Nets closed.", "Tea", "or", "coffee"]
    joined = stitch([piece(0, "Tea or"), piece(5, "coffee?")])
    assert [p.text for p in joined.passages] == ["Tea or coffee?"]


def said(
    start: float, text: str, *, speaker: str | None = None, sure: float | None = None
) -> PieceReading:
    """A piece of ten seconds in which a word is spoken each second."""
    words = tuple(Word(word, n + 0.2, n + 0.8, sure) for n, word in enumerate(text.split()))
    return PieceReading(
        start, start + 10, (Passage(0.2, len(words) - 0.2, text, speaker, words=words),)
    )


def test_the_surer_and_the_more_central_reading_is_kept() -> None:
    left = said(0, "one two three four five six seven ate nine ten", sure=0.5)
    right = said(6, "seven eight nine tan eleven twelve", sure=0.9)
    assert " ".join(p.text for p in stitch([left, right]).passages) == (
        "one two three four five six seven eight nine tan eleven twelve"
    )
    alike = stitch(
        [said(0, "a b c d e f g h i jot", sure=0.8), said(6, "gone h i j k l", sure=0.8)]
    )
    assert " ".join(p.text for p in alike.passages) == "a b c d e f g h i j k l"


def test_the_rest_of_a_cut_word_at_an_edge_is_dropped_and_a_word_that_only_one_heard_is_kept() -> (
    None
):
    broken = PieceReading(
        6.0,
        16.0,
        (
            Passage(
                0.0,
                3.8,
                "",
                words=(
                    Word("urlew", 0.02, 0.3),
                    Word("h", 1.2, 1.8),
                    Word("i", 2.2, 2.8),
                    Word("k", 4.2, 4.8),
                ),
            ),
        ),
    )
    stitched = stitch([said(0, "a b c d e f curlew h i j"), broken])
    words = [word.text for passage in stitched.passages for word in passage.words]
    assert words == ["a", "b", "c", "d", "e", "f", "curlew", "h", "i", "j", "k"]


def test_speakers_of_neighbouring_pieces_are_matched_by_the_words_that_both_heard() -> None:
    def talk(start: float, turns: list[tuple[str, str]]) -> PieceReading:
        passages, at = [], 0
        for speaker, text in turns:
            words = tuple(
                Word(word, at + n + 0.2, at + n + 0.8) for n, word in enumerate(text.split())
            )
            passages.append(Passage(words[0].start, words[-1].end, text, speaker, words=words))
            at += len(words)
        return PieceReading(start, start + at, tuple(passages))

    first = talk(0, [("A", "one two three four"), ("B", "five six seven eight")])
    second = talk(4, [("A", "five six seven eight"), ("B", "nine ten"), ("C", "eleven")])
    stitched = stitch([first, second])
    assert [(p.speaker, p.text) for p in stitched.passages] == [
        ("A", "one two three four"),
        ("B", "five six seven eight"),
        ("B-2", "nine ten"),
        ("C", "eleven"),
    ]
    apart = stitch([first, talk(8, [("B", "nine"), ("A", "ten")])])
    assert apart.notes == (
        "speakers were told apart piece by piece: labels may change hands at 8.0 s",
    )


def test_channels_are_merged_by_time_with_a_speaker_each() -> None:
    stitched = stitch_channels(
        {1: [said(0, "a b"), said(10, "c")], 2: [said(5, "x y", speaker="S7")]}
    )
    assert [(p.speaker, p.text) for p in stitched.passages] == [
        ("channel 1", "a b"),
        ("channel 2", "x y"),
        ("channel 1", "c"),
    ]


def work_of_stitching(pieces: int, overlap: float) -> int:
    """Lines of code that are passed while so many pieces without a pause or a full stop are put
    together.
    """
    readings = []
    for number in range(pieces):
        start = number * 5.0 - (overlap if number else 0.0)
        texts = [
            (f"w{round((start + n * 0.5) * 2)}", n * 0.5)
            for n in range(round((number * 5.0 + 5.0 - start) * 2))
        ]
        words = tuple(Word(text, at, at + 0.4, 0.9) for text, at in texts)
        passage = Passage(0.0, words[-1].end, " ".join(word.text for word in words), words=words)
        readings.append(PieceReading(start, number * 5.0 + 5.0, (passage,)))
    passed = 0

    def count(frame: FrameType, event: str, argument: Any) -> Any:
        nonlocal passed
        passed += event == "line"
        return count

    sys.settrace(count)
    try:
        (whole,) = stitch(readings).passages
    finally:
        sys.settrace(None)
    assert len(whole.words) == pieces * 10
    return passed


@pytest.mark.parametrize("overlap", [0.0, 2.0])
def test_the_work_of_stitching_grows_with_the_number_of_pieces_and_not_with_its_square(
    overlap: float,
) -> None:
    assert work_of_stitching(80, overlap) < 2.5 * work_of_stitching(40, overlap)
