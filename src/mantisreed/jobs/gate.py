"""Who may send to an engine now: its rate limit, its wishes to wait, and whether it is left
alone.
"""

import asyncio
import time
from collections.abc import Awaitable, Callable, Coroutine
from dataclasses import dataclass
from typing import Any, Protocol

from mantisreed.engines.card import EngineCard
from mantisreed.errors import EngineError, PostponedError, RefusedError, UnreachableError
from mantisreed.jobs.store.room import Room
from mantisreed.jobs.writer import LedgerWriter

LONGEST_ASKED_FOR = 900.0
"""Seconds that an engine may ask us to wait; after more we come back with the next command."""

_ROOM_LOOK = 0.2  # seconds between two looks whether others have left room
_ROOM_LOOK_HEARING = 1.0  # the same where they tell it; a wish that is not repeated is forgotten
_RECOVERY_SECONDS = 2.0  # until it is looked whether those who hold the places have died

_REFUSALS = (
    3  # from then on an engine that refuses is left alone: the next key would be refused as well
)


class Progress(Protocol):
    """Called when a piece has come to another stage (`waiting`, `claiming`, `sending`, `working`).

    From `claiming` on until another stage than `sending`, a request may be on its way, and must not
    be broken off.
    """

    def __call__(self, stage: str, note: str, until: float | None = None) -> None:
        """`note` says why; `until` is when it goes on, in seconds since 1970, None where nobody
        knows.
        """


def silent(stage: str, note: str, until: float | None = None) -> None:
    """Progress that nobody wants to see."""


@dataclass(frozen=True, slots=True)
class Time:
    """The clock (seconds since 1970) and how to sleep; tests give their own."""

    clock: Callable[[], float] = time.time
    sleep: Callable[[float], Awaitable[None]] = asyncio.sleep


@dataclass(frozen=True, slots=True)
class RateTurn:
    """A start that the rate limit allows, as the ledger knows it."""

    engine: str
    moment: float


class EngineGate:
    """One engine's gate, shared by all pieces that go to it."""

    def __init__(self, card: EngineCard, writer: LedgerWriter, time: Time) -> None:
        self._card, self._writer, self._time = card, writer, time
        self._room = asyncio.Semaphore(card.concurrent_pieces)
        # A local engine is there on each machine, and each machine has room of its own.
        name = card.name.partition(":")[0]
        self.shared_room = Room(name, card.concurrent_pieces) if card.is_service else None
        self._asking_for_room = asyncio.Lock()
        self._not_before = 0.0
        self._refusals = 0
        self._stopped: PostponedError | None = None
        self._halt = asyncio.Event()

    @property
    def room(self) -> asyncio.Semaphore:
        """As many requests of this process may be on their way at once as the card says."""
        return self._room

    def stop(self, reason: PostponedError) -> None:
        """Send nothing more and wait for nothing; what is on its way is still noted."""
        self._stopped = reason
        self._halt.set()

    def leave_alone(self, reason: PostponedError) -> None:
        """Send nothing more; whoever waits for something goes on waiting."""
        self._stopped = self._stopped or reason

    def check(self) -> None:
        """See that something may be sent.

        Raises:
            PostponedError: the engine is left alone for now, or the user wants to stop.
        """
        if self._stopped:
            raise self._stopped

    @property
    def is_open(self) -> bool:
        """Whether the engine has not asked for fewer requests."""
        return self._not_before <= self._time.clock()

    def note_failure(self, error: EngineError) -> None:
        """An error of which the engine's other pieces should know."""
        if isinstance(error, RefusedError):
            self._refusals += 1
        if isinstance(error, UnreachableError) or self._refusals >= _REFUSALS:
            self.leave_alone(PostponedError.because(error))

    def hold(self, seconds: float) -> None:
        """The engine wants no request for so long."""
        self._not_before = max(self._not_before, self._time.clock() + seconds)

    async def turn(self, progress: Progress) -> RateTurn | None:
        """Wait for the next turn; None where the engine has no rate limit.

        Raises:
            PostponedError: everything is to stop.
        """
        while (left := self._not_before - self._time.clock()) > 0:
            progress(
                "waiting", f"{self._card.name} asks for fewer requests: next", self._not_before
            )
            await self.rest(left)
        limit = self._card.rate_limit
        if limit is None:
            return None
        engine = self._card.name.partition(":")[0]
        requests, window = limit.requests, float(limit.window)
        moment, left = await self._writer.perform(
            lambda ledger: ledger.pace.next_turn(engine, requests, window)
        )
        while left > 0:
            until = self._time.clock() + left
            progress(
                "waiting", f"{self._card.name} allows {requests} per {window:g} s: next", until
            )
            await self.rest(left)
            # Those before this turn may have started later than they were given.
            left = await self._writer.perform(
                lambda ledger: ledger.pace.seconds_until(engine, moment, requests, window)
            )
        return RateTurn(engine, moment)

    async def room_of_all(self, progress: Progress) -> None:
        """Wait until other processes leave room for a request.

        Raises:
            PostponedError: everything is to stop.
        """
        room = self.shared_room
        assert room is not None
        text = f"{room.engine} takes {room.most} at once, and other processes are sending to it"
        # One asks for all pieces of this process: each place goes to one of them.
        async with self._asking_for_room:
            waited = 0.0
            while True:
                self.check()
                if waited >= _RECOVERY_SECONDS:
                    await self._writer.perform(lambda ledger: ledger.recover())
                    waited = 0.0
                if await self._writer.perform(lambda ledger: ledger.requests.room.wish(room)):
                    return
                progress("waiting", text)
                look = _ROOM_LOOK_HEARING if self._writer.is_listening else _ROOM_LOOK
                await self.rest(look, self._writer.notice(room.engine))
                waited += look

    async def rest(self, seconds: float, notice: Coroutine[Any, Any, None] | None = None) -> None:
        """Wait, unless everything is to stop.

        Args:
            seconds: so long.
            notice: what ends the waiting before.

        Raises:
            PostponedError: everything is to stop.
        """
        ends = {
            asyncio.ensure_future(self._time.sleep(seconds)),
            asyncio.create_task(self._halt.wait()),
        }
        if notice is not None:
            ends.add(asyncio.create_task(notice))
        try:
            await asyncio.wait(ends, return_when=asyncio.FIRST_COMPLETED)
        finally:
            for end in ends:
                end.cancel()
        if self._halt.is_set():
            self.check()
