"""Recordings that come are given to others, who take them to their ends."""

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from typing import TypeAlias

from mantisreed.jobs.store.database import LedgerError
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.sources.recordings import Source

HandOn: TypeAlias = Callable[[Sequence[Source]], Sequence[Outcome]]
"""Gives recordings to others; what became of each: `waiting` where they have it."""


@dataclass(slots=True)
class HandingRunner:
    """As a `Runner`, but that others do the work.

    Attributes:
        hand_on: takes those that have come; called on a thread.
        has_ended: told what became of each.
        on_problem: told why nobody takes them now; they are given again after a rest.
        incoming: recordings that wait for their turn; a None ends it.
        waiting: those that nobody took.
        is_over: whether no more will come.
    """

    hand_on: HandOn
    has_ended: Callable[[Outcome], object]
    on_problem: Callable[[str], None]
    incoming: "asyncio.Queue[Source | None]" = field(default_factory=asyncio.Queue)
    waiting: list[Source] = field(default_factory=list)
    is_over: bool = False

    def give(self, source: Source) -> None:
        """Add a recording."""
        self.incoming.put_nowait(source)

    def end(self) -> None:
        """No more will come: end when those that have come are given to others."""
        self.is_over = True
        self.incoming.put_nowait(None)

    interrupt = end

    async def run(self, rest: Callable[[], Awaitable[bool]]) -> None:
        """Give on what comes until no more does.

        Args:
            rest: waits a while; whether what nobody took is given again then.
        """
        while (source := await self.incoming.get()) is not None:
            together = [*self.waiting, source, *self._come_meanwhile()]
            self.waiting.clear()
            try:
                outcomes = await asyncio.to_thread(self.hand_on, together)
            except LedgerError as error:
                self.waiting = together
                self.on_problem(str(error))
                if not await rest():
                    return
                self.give(self.waiting.pop())
                continue
            for outcome in outcomes:
                self.has_ended(outcome)

    def _come_meanwhile(self) -> list[Source]:
        """Others that have come, so that they go together; the sign of the end stays."""
        come = [self.incoming.get_nowait() for _ in range(self.incoming.qsize())]
        if None in come:
            self.incoming.put_nowait(None)
        return [source for source in come if source is not None]
