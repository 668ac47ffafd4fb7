"""Taking recordings as they come, by whatever way they come: watched folders, a live stream and the
HTTP API are sources of the same runner.
"""

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from contextlib import AsyncExitStack
from dataclasses import dataclass, field, replace

from mantisreed.engines.links import LinkOffers
from mantisreed.jobs.budget import Budget
from mantisreed.pipeline.batch import Batch
from mantisreed.pipeline.options import TranscriptionOptions
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.transcribe import RunHooks, batch_services
from mantisreed.sources.recordings import Source
from mantisreed.workspace import Workspace

_LOOK = 0.1  # seconds between two looks at whether a rest is to end early


@dataclass(slots=True)
class Runner:
    """Takes recordings to transcripts by one engine, in rounds: a round ends when the engine has to
    be left alone, and what waits for it is tried again in the next.

    Attributes:
        workspace: with the settings and the ledger.
        options: what is asked of the engine.
        outputs: where results go.
        hooks: who is told what.
        kinds: recordings like those that come, for what has to be there before: a server of links.
        has_to_wait: told what became of each recording; whether it is to be tried again.
        links: where pieces are offered to engines that fetch them; None starts what is needed.
        budget: what all rounds may spend together; None lets each have its own.
        incoming: recordings that wait for their turn; a None ends the round.
        waiting: those that wait for the engine.
        is_over: whether no more will come.
    """

    workspace: Workspace
    options: TranscriptionOptions
    outputs: Outputs
    hooks: RunHooks
    kinds: Sequence[Source] = ()
    has_to_wait: Callable[[Outcome], bool] = lambda outcome: False
    links: LinkOffers | None = None
    budget: Budget | None = None
    incoming: "asyncio.Queue[Source | None]" = field(default_factory=asyncio.Queue)
    waiting: list[Source] = field(default_factory=list)
    is_over: bool = False
    _batch: Batch | None = None

    def give(self, source: Source) -> None:
        """Add a recording."""
        self.incoming.put_nowait(source)

    def end(self) -> None:
        """No more will come: end when those that have come are done with."""
        self.is_over = True
        self.incoming.put_nowait(None)

    def interrupt(self) -> None:
        """Send nothing more; what is on its way is waited for."""
        if self._batch is not None:
            self._batch.interrupt()
        self.end()

    def stop_recording(self, key: str) -> None:
        """Send nothing more of one recording, which its source's key names."""
        if self._batch is not None:
            self._batch.stop_recording(key)

    async def run(self, rest: Callable[[], Awaitable[bool]]) -> None:
        """Take what comes until no more does.

        Args:
            rest: waits as long as an engine is left alone; whether what waits is tried again then.
        """
        while not self.is_over or self.waiting:
            await self.round()
            if self.waiting and not await rest():
                return
            self._resume()

    async def round(self, is_wanted: Callable[[Source], bool] = lambda source: True) -> None:
        """Take what comes until the engine has to be left alone, or no more comes.

        Args:
            is_wanted: asked about each recording when its turn comes.
        """
        hooks = replace(self.hooks, on_outcome=self._ended)
        async with AsyncExitStack() as stack:
            services = await batch_services(stack, self.workspace, self.options, self.kinds, hooks)
            services = replace(services, links=self.links or services.links)
            self._batch = Batch(
                self.options,
                self.outputs,
                services,
                expected=self.hooks.expected,
                budget=self.budget,
            )
            try:
                await self._batch.follow(self.incoming, is_wanted)
            finally:
                self._batch = None

    def _ended(self, outcome: Outcome) -> None:
        self.hooks.on_outcome(outcome)
        if self.has_to_wait(outcome):
            self.waiting.append(outcome.recording)
            self.incoming.put_nowait(None)

    def _resume(self) -> None:
        """Put what waits before what has come meanwhile. A sign of the end among that must not end
        the next round too early.
        """
        came = [self.incoming.get_nowait() for _ in range(self.incoming.qsize())]
        for source in (*self.waiting, *(one for one in came if one is not None)):
            self.give(source)
        self.waiting.clear()
        if self.is_over:
            self.incoming.put_nowait(None)


async def rest(seconds: float, is_to_end: Callable[[], bool]) -> None:
    """Wait so long, or until there is a reason not to."""
    for _ in range(round(seconds / _LOOK)):
        if is_to_end():
            return
        await asyncio.sleep(_LOOK)
