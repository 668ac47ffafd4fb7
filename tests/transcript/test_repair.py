"""Times that make no sense are mended, and those that do are left alone."""

import math
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.repair import repaired
from strategies import passages, texts

SECONDS = st.floats(-5, 40) | st.sampled_from([0.0, 3.0, 9.0, math.nan, math.inf])


@given(st.lists(st.tuples(texts, SECONDS, SECONDS), min_size=1, max_size=20), SECONDS, SECONDS)
def test_whatever_the_times_were_they_are_in_order_and_within_the_sound(
    given_words: list[tuple[str, float, float]], start: float, end: float
) -> None:
    words = tuple(Word(*word) for word in given_words)
    (passage,), _ = repaired([Passage(start, end, "", words=words)], 10.0)
    assert [word.text for word in passage.words] == [word.text for word in words]
    assert all(0.0 <= word.start <= word.end <= 10.03 for word in passage.words)
    assert all(earlier.start <= later.start for earlier, later in pairwise(passage.words))
    assert 0.0 <= passage.start <= passage.end <= 10.03


def test_words_that_begin_at_almost_the_same_moment_stay_in_order() -> None:
    times = [(0.0, 0.0), (1.0004, 2.0), (1.00045, 0.0)]
    words = tuple(Word("tern", *one) for one in times)
    (passage,), _ = repaired([Passage(0.0, 2.0, "", words=words)], 10.0)
    assert [word.start for word in passage.words] == [0.0, 1.0004, 1.0004]


@given(passages())
def test_good_times_are_left_as_they_are(passage: Passage) -> None:
    assert repaired([passage], 1000.0) == ((passage,), 0)


@pytest.mark.parametrize(
    ("times", "starts"),
    [
        ([(0, 0), (1, 1), (2, 2)], [0.0, 1.0, 2.0]),
        ([(0.0, 0.5), (7.0, 7.5), (1.0, 1.5)], [0.0, None, 1.0]),
        ([(0.0, 0.5), (1.0, 1.5), (99.0, 99.5)], [0.0, 1.0, None]),
    ],
)
def test_what_is_right_among_wrong_ones_stays(
    times: list[tuple[float, float]], starts: list[float | None]
) -> None:
    words = tuple(Word("tern", *one) for one in times)
    (passage,), count = repaired([Passage(0.0, 3.0, "", words=words)], 3.0)
    assert count > 0
    for word, start in zip(passage.words, starts, strict=True):
        assert start is None or word.start == start
        assert word.end > word.start


def test_words_that_are_all_at_one_moment_share_the_passage() -> None:
    words = tuple(Word(text, 1.0, 1.0) for text in ["we", "saw", "twelve", "dunlin"])
    (passage,), count = repaired([Passage(1.0, 3.0, "", words=words)], 5.0)
    assert count == 4 and passage.words[0].start == 1.0 and 2.0 < passage.words[-1].start < 3.0
