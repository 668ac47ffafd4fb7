"""Several workers that take things in turn: the one loop of all that goes on several at once."""

import asyncio
from collections.abc import Awaitable, Callable, Iterable
from dataclasses import dataclass, field
from typing import Generic, Self, TypeVar

T = TypeVar("T")


@dataclass(slots=True)
class Turns(Generic[T]):
    """What several take in turn from one queue, until a None comes.

    Attributes:
        at_once: how many are at work.
        incoming: recordings, jobs, or whatever is worked on.
        is_over: whether the None has come.
    """

    at_once: int
    incoming: "asyncio.Queue[T | None]" = field(default_factory=asyncio.Queue)
    is_over: bool = False

    @classmethod
    def of(cls, things: Iterable[T], at_once: int) -> Self:
        """Turns over things that are all there."""
        turns = cls(at_once)
        for one in (*things, None):
            turns.incoming.put_nowait(one)
        return turns

    async def work(self, take: Callable[[T], Awaitable[None]]) -> None:
        """Take one after the other, so many at once; when one worker fails, the others take nothing
        more. What is in the queue behind the None stays there.

        Args:
            take: works on one; what goes wrong with that is its own matter.
        """

        async def worker() -> None:
            while (one := await self._next()) is not None:
                await take(one)

        begun = [asyncio.create_task(worker()) for _ in range(self.at_once)]
        try:
            await asyncio.gather(*begun)
        finally:
            for task in begun:
                task.cancel()
            await asyncio.gather(*begun, return_exceptions=True)
            self._drop_ends()

    async def _next(self) -> T | None:
        """The next one; None when there is none any more."""
        if self.is_over:
            return None
        one = await self.incoming.get()
        if self.is_over:
            self.incoming.put_nowait(one)  # it stays for whoever comes next
            return None
        if one is None:
            self.is_over = True
            for _ in range(self.at_once):
                # Those who wait for the next one hear of it too.
                self.incoming.put_nowait(None)
        return one

    def _drop_ends(self) -> None:
        """Leave nothing in the queue but what is to be worked on."""
        behind = [self.incoming.get_nowait() for _ in range(self.incoming.qsize())]
        for one in behind:
            if one is not None:
                self.incoming.put_nowait(one)
