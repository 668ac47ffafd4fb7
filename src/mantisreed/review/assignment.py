"""Pairing rows with columns so that the sum of what the pairs cost is least."""

from collections.abc import Sequence

_NOBODY = -1  # no row has this number


def cheapest_pairs(costs: Sequence[Sequence[float]]) -> list[int]:
    """The column of each row of a square table, each column once, at the least cost in all.

    The Hungarian method (Kuhn, 1955) with potentials (Munkres, 1957): rows are added one by one,
    each by the shortest way over pairs that are given up. It takes the cube of the number of rows.

    Args:
        costs: as many columns as rows.
    """
    count = len(costs)
    of_row, of_column = [0.0] * count, [0.0] * count  # potentials: no pair costs less than both
    row_of = [_NOBODY] * count
    for row in range(count):
        _add(row, costs, of_row, of_column, row_of)
    pairs = [0] * count
    for column, row in enumerate(row_of):
        pairs[row] = column
    return pairs


def _add(
    row: int,
    costs: Sequence[Sequence[float]],
    of_row: list[float],
    of_column: list[float],
    row_of: list[int],
) -> None:
    """Pair one more row; others may get another column."""
    count = len(costs)
    least, before = [float("inf")] * count, [_NOBODY] * count
    is_seen = [False] * count
    column, here = _NOBODY, row
    while True:
        if column != _NOBODY:
            is_seen[column] = True
            here = row_of[column]
        if here == _NOBODY:
            break
        for other in range(count):
            cost = costs[here][other] - of_row[here] - of_column[other]
            if not is_seen[other] and cost < least[other]:
                least[other], before[other] = cost, column
        step, nearest = min((least[one], one) for one in range(count) if not is_seen[one])
        of_row[row] += step
        for other in range(count):
            if is_seen[other]:
                of_row[row_of[other]] += step
                of_column[other] -= step
            else:
                least[other] -= step
        column = nearest
    # Back along the way: each column gets the row of the one before.
    while column != _NOBODY:
        earlier = before[column]
        row_of[column] = row if earlier == _NOBODY else row_of[earlier]
        column = earlier
