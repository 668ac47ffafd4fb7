"""What all requests of a card share: a token, a cookie, whatever `login` takes; renewed before it
ends.
"""

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from mantisreed.cards.card import Login
from mantisreed.cards.moments import moment_from
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.errors import UnreadableReplyError
from mantisreed.secrets import Secret

_EARLY = 30.0  # seconds before its end that a login is renewed

LogIn = Callable[[], Awaitable[HttpAnswer]]
"""Sends the request of `login`; its errors are told apart already."""


class Session:
    """One login.

    Attributes:
        generation: counts logins; whoever is refused says with which one.
    """

    def __init__(
        self, engine: str, login: Login, clock: Callable[[], float], wall_clock: Callable[[], float]
    ) -> None:
        """Fetch nothing yet.

        Args:
            engine: the card's name, for messages.
            login: the card's table.
            clock: seconds that only go forward.
            wall_clock: seconds since 1970.
        """
        self._engine, self._login, self._clock, self._wall_clock = engine, login, clock, wall_clock
        self._lock = asyncio.Lock()
        self._values: dict[str, Any] | None = None
        self._ends: float | None = None
        self.generation = 0

    @property
    def secrets(self) -> tuple[Secret, ...]:
        """What must not be shown."""
        return tuple(Secret(str(value)) for value in (self._values or {}).values())

    async def values(self, log_in: LogIn) -> Mapping[str, Any]:
        """What the login gave; a new one is made where there is none, or it is about to end.

        Raises:
            EngineError: it failed.
        """
        # One login for all who wait for it.
        async with self._lock:
            if self._values is None or (self._ends is not None and self._clock() >= self._ends):
                answer = await log_in()
                self._values, self._ends = self._taken(answer), self._end(answer)
                self.generation += 1
            return self._values

    def refuse(self, generation: int) -> None:
        """The service did not accept what this login gave: the next request makes a new one."""
        if generation == self.generation:
            self._values = None

    def _taken(self, answer: HttpAnswer) -> dict[str, Any]:
        taken = {name: take.find(answer) for name, take in self._login.take.items()}
        for name, take in self._login.take.items():
            if taken[name] is None and not take.is_optional:
                error = UnreadableReplyError(
                    f"login.take.{name} ({take}) finds nothing in the answer",
                    engine=self._engine,
                    status=answer.status,
                )
                error.may_be_charged, error.before_work = False, True
                raise error
        return {name: value for name, value in taken.items() if value is not None}

    def _end(self, answer: HttpAnswer) -> float | None:
        """When it is to be renewed, by our clock; None when nothing says that it ends."""
        seconds = self._seconds(answer)
        if seconds is None:
            return None
        # A login that lasts for a few seconds is used for half of them.
        return self._clock() + max(seconds - _EARLY, seconds / 2)

    def _seconds(self, answer: HttpAnswer) -> float | None:
        login = self._login
        if login.expires_at is not None:
            moment = moment_from(login.expires_at.find(answer))
            if moment is not None:
                return max(0.0, moment - self._wall_clock())
        if login.expires_in is not None:
            seconds = _seconds_or_moment(login.expires_in.find(answer), self._wall_clock())
            if seconds is not None:  # else the card's own lifetime counts
                return max(0.0, seconds)
        if login.lifetime is None:
            return None
        return float(login.lifetime)


def _seconds_or_moment(found: Any, now: float) -> float | None:
    """Seconds from now; some services give the moment itself where others give seconds."""
    try:
        # Seconds are the standard's; some services give the moment in the same field.
        return float(found)
    except (TypeError, ValueError):
        moment = moment_from(found)
        return None if moment is None else moment - now
