"""Keeping to an engine's pace: at most so many requests in any window of time, counted exactly."""

from collections import deque


class RollingWindow:
    """Decides when the next request may start; does not wait itself.

    In any stretch of `window` seconds at most `requests` start.
    """

    def __init__(self, requests: int | None, window: float) -> None:
        """With `requests` None, every request may start at once."""
        self._requests = requests
        self._window = window
        self._starts: deque[float] = deque()

    def next_start(self, now: float) -> float:
        """The moment, on the clock of `now`, at which one more request may start; that place is then taken."""
        if self._requests is None:
            return now
        start = now
        if len(self._starts) >= self._requests:
            start = max(now, self._starts.popleft() + self._window)
        self._starts.append(start)
        return start
