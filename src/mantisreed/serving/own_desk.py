"""Orders that the service works on itself: each kind of options has a batch of its own, which takes
recordings as they come.
"""

import asyncio
import logging
import time
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import msgspec

from mantisreed.engines.card import EngineCard
from mantisreed.errors import InternalError, MantisreedError, SpendLimitError
from mantisreed.jobs.life import ShownState
from mantisreed.jobs.records import JobRecord
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.open_files import fitted
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.runner import Runner
from mantisreed.pipeline.transcribe import RunHooks
from mantisreed.serving.desk import AGAIN_SECONDS, Desk, DeskOptions
from mantisreed.serving.orders import Order, OrderBook
from mantisreed.serving.results import facts_of
from mantisreed.sources.recordings import Source
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.engines.links import LinkOffers

_log = logging.getLogger(__name__)

_IDLE = 30.0  # seconds without a recording after which a batch ends


@dataclass(slots=True)
class _Lane:
    """A batch for orders with the same options."""

    runner: Runner
    task: "asyncio.Task[None] | None" = None
    under_way: int = 0
    last: float = 0.0


class OwnDesk(Desk):
    """Takes orders to their ends in this process."""

    def __init__(
        self,
        workspace: Workspace,
        book: OrderBook,
        writer: LedgerWriter,
        options: DeskOptions | None = None,
        *,
        links: "LinkOffers | None" = None,
    ) -> None:
        """Work on nothing yet.

        Args:
            workspace: with the engine cards.
            book: of the orders.
            writer: does things with the ledger, one after the other.
            options: how the orders are worked on.
            links: where pieces are offered to engines that fetch them.
        """
        super().__init__(workspace, book, writer, options)
        self._links = links
        self._lanes: dict[bytes, _Lane] = {}
        self._by_source: dict[
            str, tuple[Order, _Lane]
        ] = {}  # what a lane has, and will tell the outcome of
        self._given_up: set[str] = set()  # orders that were cancelled while a lane had them

    def on_their_way(self) -> set[str]:
        """The ids of orders of which this process sends or awaits something, also of those that
        were cancelled a moment ago.
        """
        return {order.id for order, _ in self._by_source.values()} | self._given_up

    def take(self, order: Order) -> None:
        """Begin to work on an order, unless that has begun."""
        source = self._source_of(order)
        if self._is_stopping or source.key in self._by_source:
            return
        try:
            lane = self._lane_of(order)
        except MantisreedError as error:
            self._later_on(self._note_failed(order, error))
            return
        self._by_source[source.key] = order, lane
        lane.under_way += 1
        lane.last = time.monotonic()
        lane.runner.give(source)

    async def cancel(self, order: Order) -> None:
        """Send nothing more of an order; what is on its way is waited for and kept."""
        key = self._source_of(order).key
        if key not in self._by_source:
            await self._note_cancelled(order)
        else:
            self._given_up.add(order.id)
            self._by_source[key][1].runner.stop_recording(key)
        await self._note_given_up(order)

    def _lane_of(self, order: Order) -> _Lane:
        """The batch for an order; what a job may spend is for it alone."""
        is_again = order.id in self._wanted_again
        alone = order.id if order.options.spend_limit is not None or is_again else ""
        key = msgspec.json.encode((order.options, alone))
        lane = self._lanes.get(key)
        if lane is None or lane.task is None or lane.task.done():
            options = self.checked(order.options)
            card: EngineCard = fitted(options.card)[0]
            hooks = RunHooks(
                workers=self.workers,
                on_event=self._tell,
                on_outcome=self._ended,
                also_doubtful=is_again,
                purse_of=self.purses.of,
            )
            runner = Runner(
                self._workspace,
                replace(options, card=card),
                self._outputs_of(order.options),
                hooks,
                links=self._links,
            )
            lane = self._lanes[key] = _Lane(runner)
            lane.task = asyncio.create_task(self._work(key, lane))
        return lane

    async def _work(self, key: bytes, lane: _Lane) -> None:
        """Take what comes; begin anew when an engine had to be left alone; end when nothing
        comes.
        """
        idle = asyncio.create_task(self._end_when_idle(lane))
        has_ended_well = False
        try:
            await lane.runner.round(self._is_wanted)
            has_ended_well = True
        except Exception as error:
            _log.exception("a batch of the service failed")
            self._options.on_failure(
                f"a batch failed ({type(error).__name__}); its jobs are taken up again"
            )
            lane.last = time.monotonic()
        finally:
            idle.cancel()
            self._lanes.pop(key, None)
            # What came while it ended, or was left when it failed, begins again.
            left = {key: order for key, (order, its) in self._by_source.items() if its is lane}
            for source, order in left.items():
                del self._by_source[source]
                self._given_up.discard(order.id)
                if not order.has_ended:
                    self._again(order, 0.1 if has_ended_well else AGAIN_SECONDS)

    def _is_wanted(self, source: Source) -> bool:
        found = self._by_source.get(source.key)
        return found is not None and found[0].id not in self._given_up

    async def _end_when_idle(self, lane: _Lane) -> None:
        while True:
            await asyncio.sleep(_IDLE / 10)
            if not lane.under_way and time.monotonic() - lane.last > _IDLE:
                lane.runner.end()
                return

    def _tell(self, event: Event) -> None:
        found = self._by_source.get(event.recording.key)
        if found is None or found[0].id in self._given_up or event.stage in ("done", "failed"):
            return
        # Until its recording is there, nothing of it is in the ledger but that it waits.
        state: ShownState = "waiting" if event.stage == "fetching" else "sending"
        self._book.show(found[0], state=state, stage=event.text())

    def _ended(self, outcome: Outcome) -> None:
        """What became of a recording."""
        found = self._by_source.pop(outcome.recording.key, None)
        if found is None:
            return
        order, lane = found
        lane.under_way -= 1
        lane.last = time.monotonic()
        self._later_on(self._accounted(order, outcome))

    async def _accounted(self, order: Order, outcome: Outcome) -> None:
        """Note what an order has cost, and what became of it."""
        try:
            if outcome.job is not None:
                cost = outcome.cost
                await self._book.change(
                    order,
                    cost=None if cost is None else round(float(cost), 6),
                    currency=outcome.job.currency,
                )
            if order.id in self._given_up:
                self._given_up.discard(order.id)
                if order.has_ended:
                    await self._note_cancelled(order)
                else:  # it was cancelled, and somebody wants it after all
                    self.take(order)
            elif not order.has_ended:
                await self._note(order, outcome)
        except Exception as error:
            _log.exception("job %s could not be noted", order.id)
            self._options.on_failure(f"job {order.id} could not be noted: {error}")
            self._again(order, AGAIN_SECONDS)

    async def _note(self, order: Order, outcome: Outcome) -> None:
        if outcome.state == "waiting" and not isinstance(outcome.error, SpendLimitError):
            until = getattr(outcome.error, "until", None)
            wait = max(1.0, until - time.time()) if until else AGAIN_SECONDS
            stage = str(outcome.error or "")
            await self._book.change(order, state="waiting", stage=stage, error=None)
            self._again(order, wait)
            return
        if outcome.transcript is None:
            await self._note_failed(order, outcome.error or InternalError("nothing came back"))
            return
        assert outcome.job is not None
        self._wanted_again.discard(order.id)
        await self._book.change(
            order,
            state=outcome.job.shown,
            stage="",
            **facts_of(outcome.transcript, outcome.files, self._workspace),
            error=str(outcome.error) if outcome.error else None,
            advice=outcome.error.advice if outcome.error else None,
            finished=time.time(),
            webhook_state="waiting" if order.webhook else None,
        )

    async def _note_cancelled(self, order: Order) -> None:
        await self._tell_ledger(order, "cancelled", "cancelled by the user")

    async def keep(self, order: Order) -> None:
        """It stays where it is."""

    async def forget(self, order: Order) -> None:
        """Nothing was put elsewhere."""

    async def _take_over(self, order: Order, record: JobRecord, seen: int) -> None:
        if order.id in self.on_their_way():
            if record.state == "cancelled" and order.id not in self._given_up:
                await self.cancel(order)
            return
        await super()._take_over(order, record, seen)
        if not order.has_ended:
            self._again(order, AGAIN_SECONDS)

    async def _leave(self, limit: float) -> None:
        tasks = [lane.task for lane in self._lanes.values() if lane.task is not None]
        for lane in self._lanes.values():
            lane.runner.interrupt()
        if tasks:
            _, late = await asyncio.wait(tasks, timeout=limit)
            for task in late:
                task.cancel()
            await asyncio.gather(*late, return_exceptions=True)
