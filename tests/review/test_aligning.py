"""Rows of words beside each other: as few changes as can be, also where the rows are cut."""

import random
from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rapidfuzz.distance import Levenshtein

from mantisreed.review import aligning
from mantisreed.review.aligning import AlignedRun, aligned_runs, changes_in


def other_row(runs: list[AlignedRun], one: list[str], other: list[str]) -> list[str]:
    """What the runs make of a row."""
    made: list[str] = []
    for run in runs:
        made += one[run.first : run.last] if run.tag == "equal" else other[run.begin : run.end]
    return made


def damaged(row: list[str], share: float, chance: random.Random, words: list[str]) -> list[str]:
    made: list[str] = []
    for word in row:
        wrong: list[list[str]] = [[], [chance.choice(words)], [word, chance.choice(words)]]
        made += chance.choice(wrong) if chance.random() < share else [word]
    return made


@pytest.mark.parametrize("kinds", [3, 40, 3000])
@pytest.mark.parametrize("share", [0.0, 0.02, 0.2, 0.6])
def test_a_cut_row_has_no_more_changes_than_an_uncut_one(kinds: int, share: float) -> None:
    chance = random.Random(kinds + int(100 * share))
    words = [f"word{number}" for number in range(kinds)]
    one = [chance.choice(words) for _ in range(6000)]
    other = damaged(one, share, chance, words)
    if share == 0.2:  # a passage that was moved, and one that is said twice
        other = other[3000:3300] + other[:3000] + other[2800:3000] + other[3300:]
    runs = aligned_runs(one, other)
    assert changes_in(runs) == Levenshtein.distance(one, other)
    assert other_row(runs, one, other) == other
    assert changes_in(aligned_runs(one, other, is_exact=False)) >= changes_in(runs)


@given(
    st.lists(st.sampled_from("abcd"), max_size=60), st.lists(st.sampled_from("abcd"), max_size=60)
)
@settings(max_examples=200)
def test_runs_cover_both_rows_in_order(one: list[str], other: list[str]) -> None:
    patch = pytest.MonkeyPatch()
    with patch.context() as changed:
        changed.setattr(aligning, "_LONG", 8)
        changed.setattr(aligning, "_STRETCH", 3)
        changed.setattr(aligning, "_APART", 4)
        runs = aligned_runs(one, other)
    assert changes_in(runs) == Levenshtein.distance(one, other)
    assert other_row(runs, one, other) == other
    for before, run in pairwise(runs):
        assert (before.last, before.end) == (run.first, run.begin) and before.tag != run.tag
    if runs:
        assert (runs[0].first, runs[0].begin, runs[-1].last, runs[-1].end) == (
            0,
            0,
            len(one),
            len(other),
        )
    assert all(
        one[run.first : run.last] == other[run.begin : run.end]
        for run in runs
        if run.tag == "equal"
    )
