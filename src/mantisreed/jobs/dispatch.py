"""Taking pieces to their replies at one engine, many at once; each is a `Delivery`."""

import asyncio
from collections.abc import Awaitable, Callable
from contextlib import suppress
from typing import TYPE_CHECKING, TypeVar
from weakref import WeakValueDictionary

from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineClient, EngineResponse
from mantisreed.errors import PostponedError
from mantisreed.jobs.budget import Budget
from mantisreed.jobs.delivery import Delivery
from mantisreed.jobs.engine_access import EngineAccess
from mantisreed.jobs.failures import AttemptEndedError
from mantisreed.jobs.gate import LONGEST_ASKED_FOR, EngineGate, Progress
from mantisreed.jobs.polling import Poller
from mantisreed.jobs.work import DispatchOptions, Work
from mantisreed.jobs.writer import LedgerWriter

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import RequestRecord

T = TypeVar("T")


class Dispatcher:
    """Takes pieces to their replies at one engine, many at once."""

    def __init__(
        self, client: EngineClient, card: EngineCard, writer: LedgerWriter, options: DispatchOptions
    ) -> None:
        """Start nothing yet.

        Args:
            client: what speaks to the engine.
            card: of the engine.
            writer: what changes the ledger.
            options: how.
        """
        callbacks: str | None = None
        if options.callbacks and card.callback:
            callbacks = options.callbacks.rstrip("/")
        gate = EngineGate(card, writer, options.time)
        poller = Poller(
            client,
            card,
            writer,
            gate,
            is_called=callbacks is not None,
            max_attempts=options.max_attempts,
            time=options.time,
        )
        self._engine = EngineAccess(client, card, writer, options, gate, poller, callbacks)
        # The same sound may be in two recordings of a batch; it is sent once.
        self._under_way: WeakValueDictionary[str, asyncio.Lock] = WeakValueDictionary()
        self._fresh: set[str] = set()
        self._loading: asyncio.Task[None] | None = None

    @property
    def budget(self) -> Budget:
        """What is owed, and what may be."""
        return self._engine.options.budget

    @property
    def sending(self) -> int:
        """How many requests are on their way."""
        return self._engine.sending

    @property
    def out(self) -> int:
        """How many pieces the engine has as jobs, which are asked for."""
        return self._engine.poller.out

    async def perform(self, change: "Callable[[Ledger], T]", *, is_owed: bool = False) -> T:
        """Do something with the ledger; it is committed when this returns. See `LedgerWriter`."""
        return await self._engine.perform(change, is_owed=is_owed)

    def hold(self, seconds: float) -> None:
        """Begin no request for so long: the engine has said that it would refuse it."""
        engine = self._engine
        if seconds <= LONGEST_ASKED_FOR:
            engine.gate.hold(seconds)
            return
        until = engine.options.time.clock() + seconds
        what = "it says that nothing more may be sent for now"
        engine.gate.leave_alone(PostponedError(what, where=engine.card.name, until=until))

    def stop(self, reason: PostponedError) -> None:
        """Send nothing more and wait for nothing; what is on its way is still noted."""
        self._engine.gate.stop(reason)

    def budgets(self, job: str) -> tuple[Budget, ...]:
        """All that have to have room for what is sent for a job."""
        return self._engine.budgets(job)

    async def make_ready(self) -> None:
        """Load what the engine needs, before anything is sent.

        Raises:
            InputError: it cannot be loaded.
        """
        await self._engine.client.make_ready()

    def expect_sending(self) -> None:
        """Begin to load what sends requests, and wait for nothing: something is sent soon."""
        ready = self._engine.options.ready
        if ready is not None and self._loading is None:
            self._loading = asyncio.create_task(_loaded(ready))

    async def reply(self, work: Work, progress: Progress) -> EngineResponse:
        """The engine's reply to a piece. What is kept is not asked for again.

        Raises:
            EngineError: it failed for good, or as often as it may.
            PostponedError: nothing more is done about it for now.
        """
        response = await self._delivered(work, progress, wait=True)
        assert response is not None
        return response

    async def submit(self, work: Work, progress: Progress) -> EngineResponse | None:
        """As `reply`, but None as soon as the engine has taken the piece as a job."""
        return await self._delivered(work, progress, wait=False)

    async def _delivered(
        self, work: Work, progress: Progress, *, wait: bool
    ) -> EngineResponse | None:
        async with self._under_way.setdefault(work.key, asyncio.Lock()):
            # Two recordings of a batch with the same sound: what the first has just paid for is
            # fresh enough.
            afresh = self._engine.options.afresh and work.key not in self._fresh
            self._fresh.add(work.key)
            return await Delivery(self._engine, work, progress, afresh, wait).response()

    async def collect(
        self, record: "RequestRecord", progress: Progress, *, wait: bool
    ) -> EngineResponse | None:
        """The reply to a request that is at the engine; None while it is under way, unless we wait.

        Raises:
            EngineError: the job failed, or the engine does not know it.
            PostponedError: the engine cannot be asked for now, or another process waits for it.
        """
        engine = self._engine
        claimed = await engine.perform(lambda ledger: _claimed_again(ledger, record))
        if claimed is None:
            raise PostponedError("another process is waiting for it", where=engine.card.name)
        try:
            if claimed.state == "working":
                return await engine.poller.reply(claimed, progress, wait=wait)
            if claimed.has_reply:
                return await engine.kept(claimed)
            return None
        except AttemptEndedError as ended:
            raise ended.error from ended
        finally:
            await engine.perform(lambda ledger: ledger.requests.release(record.key), is_owed=True)

    async def ask_once(self, record: "RequestRecord") -> None:
        """Ask once for a request, whoever waits for it; the ledger takes its reply only once."""
        await self._engine.poller.ask_once(record)

    async def deliver(self, record: "RequestRecord", body: bytes) -> None:
        """Take a reply that the engine has brought by itself, if it is still waited for."""
        await self._engine.answered(record, EngineResponse(body))


async def _loaded(ready: Callable[[], Awaitable[None]]) -> None:
    with suppress(Exception):  # whoever sends meets the same, and tells it
        await ready()


def _claimed_again(ledger: "Ledger", record: "RequestRecord") -> "RequestRecord | None":
    claimed = ledger.requests.claim_again(record)
    if claimed is None:
        ledger.recover()
        claimed = ledger.requests.claim_again(record)
    return claimed
