"""Never over an engine's pace, and never slower than it allows."""

from hypothesis import given
from hypothesis import strategies as st

from mantisreed.jobs.pace import RollingWindow


@given(st.integers(1, 5), st.lists(st.integers(0, 30), min_size=1, max_size=60))
def test_no_window_holds_more_than_allowed_and_no_request_waits_longer_than_it_must(
    requests: int, gaps: list[int]
) -> None:
    window, now = RollingWindow(requests, 20.0), 0.0
    starts: list[float] = []
    for gap in gaps:
        now += gap
        start = window.next_start(now)
        earliest = max(now, starts[-requests] + 20.0) if len(starts) >= requests else now
        assert start == earliest
        starts.append(start)
    for index, start in enumerate(starts):
        assert sum(1 for other in starts[index:] if other < start + 20.0) <= requests


def test_without_a_pace_nothing_waits() -> None:
    window = RollingWindow(None, 60.0)
    assert [window.next_start(1.0) for _ in range(100)] == [1.0] * 100
