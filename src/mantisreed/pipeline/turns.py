"""Several workers that take recordings in turn."""

import asyncio
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeAlias

from mantisreed.jobs.budget import BudgetsOf
from mantisreed.pipeline.outputs import Outputs
from mantisreed.sources.recordings import Source

if TYPE_CHECKING:
    from mantisreed.pipeline.followups.follow_ups import FollowUps
    from mantisreed.pipeline.followups.service_desk import Perform

    FollowUpsMaker: TypeAlias = Callable[[Perform, Outputs, BudgetsOf], FollowUps]
    """Makes what is done with transcripts, of what does things with the ledger, where files go, and
    what may be spent."""


async def all_or_none(tasks: "Iterable[asyncio.Task[None]]") -> None:
    """Wait for all; when one of them fails, the others take nothing more."""
    begun = list(tasks)
    try:
        await asyncio.gather(*begun)
    finally:
        for task in begun:
            task.cancel()
        await asyncio.gather(*begun, return_exceptions=True)


@dataclass(slots=True)
class Turns:
    """Recordings that several take in turn from one queue, until a None comes.

    Attributes:
        incoming: the recordings.
        at_once: how many take turns.
        is_over: whether the None has come.
    """

    incoming: "asyncio.Queue[Source | None]"
    at_once: int
    is_over: bool = False

    async def next(self) -> Source | None:
        """The next recording; None when there is none any more."""
        if self.is_over:
            return None
        source = await self.incoming.get()
        if self.is_over:
            self.incoming.put_nowait(source)  # it stays for whoever comes next
            return None
        if source is None:
            self.is_over = True
            for _ in range(self.at_once):
                # Those who wait for the next one hear of it too.
                self.incoming.put_nowait(None)
        return source

    def drop_ends(self) -> None:
        """Leave nothing in the queue but recordings."""
        behind = [self.incoming.get_nowait() for _ in range(self.incoming.qsize())]
        for source in behind:
            if source is not None:
                self.incoming.put_nowait(source)
