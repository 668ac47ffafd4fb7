"""Runs of places in a row for which something holds."""

from collections.abc import Iterator, Sequence


def runs_where(flags: Sequence[bool]) -> Iterator[tuple[int, int]]:
    """Runs [first, last) of true flags."""
    first = None
    for at, flag in enumerate([*flags, False]):
        if flag and first is None:
            first = at
        elif not flag and first is not None:
            yield first, at
            first = None
