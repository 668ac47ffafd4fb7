"""Pairs at the least cost."""

import random
from itertools import permutations

import pytest

from mantisreed.review.assignment import cheapest_pairs


@pytest.mark.parametrize("count", range(7))
def test_no_other_pairs_cost_less(count: int) -> None:
    chance = random.Random(count)
    for most in (1, 3, 1000):
        costs = [[chance.randint(0, most) for _ in range(count)] for _ in range(count)]
        pairs = cheapest_pairs(costs)
        assert sorted(pairs) == list(range(count))
        cost = sum(costs[row][column] for row, column in enumerate(pairs))
        others = permutations(range(count))
        assert cost == min(sum(costs[row][one[row]] for row in range(count)) for one in others)


def test_many_are_paired_quickly() -> None:
    chance = random.Random(9)
    costs = [[chance.random() for _ in range(60)] for _ in range(60)]
    pairs = cheapest_pairs(costs)
    assert sorted(pairs) == list(range(60))
    # Nobody gains by changing with another.
    for one in range(60):
        for other in range(one):
            now = costs[one][pairs[one]] + costs[other][pairs[other]]
            assert now <= costs[one][pairs[other]] + costs[other][pairs[one]] + 1e-9
