"""What becomes of orders: what all ways of working on them share."""

import asyncio
import logging
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Coroutine
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import msgspec

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.destinations.stored_outputs import local_folder
from mantisreed.engines.card import EngineCard
from mantisreed.errors import MantisreedError
from mantisreed.exports.formats import chosen_formats
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.life import JobEvent
from mantisreed.jobs.records import Filter, JobRecord
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.options import (
    RunOptions,
    TranscriptionOptions,
    default_writing,
    transcription_options,
)
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.sent_jobs.choosing import let_go_of_unreadable
from mantisreed.pipeline.transcribe import check_links
from mantisreed.serving.orders import ENDED, Order, OrderBook
from mantisreed.serving.purses import Purses
from mantisreed.serving.results import facts_on_disk
from mantisreed.sources.recordings import Source
from mantisreed.workspace import Workspace

_log = logging.getLogger(__name__)

AGAIN_SECONDS = 60.0
"""Until what waits for an engine or a database is tried again, where nobody says when."""

_LOOK = 2.0  # seconds after which the ledger is asked what others have done with the jobs
_STRANGER = "https://whoever-sent-it.invalid/"  # names links that lead to the internet only


@dataclass(frozen=True, slots=True)
class DeskOptions:
    """How orders are worked on.

    Attributes:
        takes_private_links: whether links may lead to this network.
        on_failure: called with what failed and does not end the service.
        limit_of: what the token with a name may spend; None for no limit.
    """

    takes_private_links: bool = False
    on_failure: Callable[[str], None] = lambda what: None
    limit_of: Callable[[str], float | None] = lambda owner: None


class Desk(ABC):
    """Takes orders to their ends.

    Attributes:
        others_spend: whether other processes send what orders need.
    """

    others_spend = False

    def __init__(
        self,
        workspace: Workspace,
        book: OrderBook,
        writer: LedgerWriter,
        options: DeskOptions | None = None,
    ) -> None:
        """Work on nothing yet.

        Args:
            workspace: with the engine cards.
            book: of the orders.
            writer: does things with the ledger, one after the other.
            options: how the orders are worked on.
        """
        self._workspace, self._book = workspace, book
        self._options = options or DeskOptions()
        self._wanted_again: set[str] = set()  # orders that somebody has tried again
        self._is_stopping = False
        self.workers = DecodingWorkers()  # also those who only want to know what a recording is
        self._writer = writer
        self.purses = Purses(
            book, self._writer, self._options.limit_of, others_spend=self.others_spend
        )
        self._later: set[asyncio.TimerHandle] = set()
        self._noting: set[asyncio.Task[None]] = set()

    @abstractmethod
    def take(self, order: Order) -> None:
        """Begin to work on an order, unless that has begun."""

    @abstractmethod
    async def cancel(self, order: Order) -> None:
        """Send nothing more of an order; what was answered is kept.

        Raises:
            MantisreedError: it cannot be cancelled now.
        """

    @abstractmethod
    async def _leave(self, limit: float) -> None:
        """Let what is on its way come in for so many seconds."""

    @property
    def waiting(self) -> int:
        """Orders that are not at an end."""
        return sum(not order.has_ended for order in self._book)

    def on_their_way(self) -> set[str]:
        """The ids of orders of which this process sends or awaits something, also of those that
        were cancelled a moment ago.
        """
        return set()

    async def resume(self) -> None:
        """Take up all orders that were not at an end when the service ended."""
        # All at once: a round trip for each would keep a service with many from starting.
        open_orders = [one for one in self._book if not one.is_finished and self.can_take(one)]
        for order in await self._book.take_over(open_orders):
            if not order.has_ended:
                self.take(order)
        self._following = asyncio.create_task(self._follow_ledger())

    def can_take(self, order: Order) -> bool:
        """Whether this machine has what it takes to work on an order. One whose recording is on
        another machine waits for a service there.
        """
        return order.link is not None or order.has_ended or Path(order.path).exists()

    @abstractmethod
    async def keep(self, order: Order) -> None:
        """Put the recording of an order, before it is accepted, where those find it who will work
        on it.

        Raises:
            RecordingError: it cannot be put there.
        """

    def checked(self, wanted: RunOptions) -> TranscriptionOptions:
        """What is asked of the engine for an order; asked before it is accepted.

        Raises:
            InputError: an option makes no sense.
        """
        options = transcription_options(self._workspace, wanted)
        check_links(self._workspace, options.card, [Source(Path("recording"))])
        return options

    async def announce(self, order: Order, card: EngineCard) -> None:
        """Note an order in the ledger, so that it is known there before its turn comes."""
        currency = card.price.currency if card.price else None
        job = JobToOpen(order.id, order.source.label, "", card.name, currency)
        await self._writer.perform(lambda ledger: ledger.jobs.announce(job))

    async def again(self, order: Order) -> None:
        """Work on an order once more that failed or was cancelled; what was answered is not paid
        again.

        What a lane still has of it is waited for.
        """
        self._wanted_again.add(order.id)
        options = self.checked(order.options)

        def note(ledger: Ledger) -> None:
            let_go_of_unreadable(ledger, self._workspace, order.id, options)
            ledger.jobs.note(order.id, "wanted again")

        await self._writer.perform(note)
        await self._book.change(
            order,
            state="waiting",
            stage="",
            error=None,
            advice=None,
            finished=None,
            webhook_state=None,
            files=(),
            options=order.options,
        )
        # Another service that works on it sees in the ledger that it is wanted again.
        if self.can_take(order) and await self._book.take_over([order]):
            self.take(order)
        else:
            self._wanted_again.discard(order.id)

    def take_again(self, order: Order) -> None:
        """Work on an order that another service was asked to try again."""
        if order.id not in self.on_their_way():
            self._wanted_again.add(order.id)
            self.take(order)

    @abstractmethod
    async def forget(self, order: Order) -> None:
        """Remove what was put elsewhere for an order that is forgotten.

        Raises:
            InputError: it cannot be removed.
        """

    async def stop(self, limit: float) -> None:
        """Take nothing new, let what is on its way come in for so many seconds, and leave the rest
        resumable.
        """
        self._is_stopping = True
        self._following.cancel()
        for handle in self._later:
            handle.cancel()
        await self._leave(limit)
        await asyncio.gather(*self._noting, return_exceptions=True)
        self.workers.close()

    def _source_of(self, order: Order) -> Source:
        stranger = None if self._options.takes_private_links or order.link is None else _STRANGER
        return replace(order.source, named_by=stranger)

    def _outputs_of(self, wanted: RunOptions) -> Outputs:
        workspace = self._workspace
        workspace.trust.require("writing", "database", "leading")
        folder = self._folder_of_outputs()
        writing = wanted.writing or default_writing(workspace)
        return Outputs(folder, workspace.hidden, chosen_formats(wanted.to or ()), options=writing)

    def _folder_of_outputs(self) -> Path:
        workspace = self._workspace
        return local_folder(workspace.folder, workspace.hidden, workspace.settings.into)

    async def _note_given_up(self, order: Order) -> None:
        called = "waiting" if order.webhook else None
        await self._book.change(
            order, state="cancelled", stage="", finished=time.time(), webhook_state=called
        )

    def _again(self, order: Order, seconds: float) -> None:
        if self._is_stopping:
            return
        loop = asyncio.get_running_loop()

        def take() -> None:
            self._later.discard(handle)
            if not order.has_ended:
                self.take(order)

        handle = loop.call_later(seconds, take)
        self._later.add(handle)

    def _later_on(self, noting: Coroutine[Any, Any, None]) -> None:
        """Note something that whoever calls does not wait for."""
        task = asyncio.create_task(noting)
        self._noting.add(task)
        task.add_done_callback(self._noted)

    def _noted(self, task: "asyncio.Task[None]") -> None:
        self._noting.discard(task)
        if not task.cancelled() and (error := task.exception()) is not None:
            _log.error("a job could not be noted", exc_info=error)
            self._options.on_failure(f"a job could not be noted ({type(error).__name__}: {error})")

    async def _note_failed(self, order: Order, error: MantisreedError) -> None:
        # What failed before its recording was read is not noted in the ledger yet.
        await self._tell_ledger(order, "failed", str(error))
        await self._book.change(
            order,
            state="failed",
            stage="",
            error=str(error),
            advice=error.advice,
            kind=type(error).__name__.removesuffix("Error"),
            finished=time.time(),
            webhook_state="waiting" if order.webhook else None,
        )

    async def _tell_ledger(self, order: Order, event: JobEvent, reason: str) -> None:
        def tell(ledger: Ledger) -> None:
            if ledger.listing.job(order.id).state not in ("done", "failed", "cancelled"):
                ledger.jobs.note(order.id, event, reason)

        await self._writer.perform(tell)

    async def _follow_ledger(self) -> None:
        """See what others do with the jobs: commands in this workspace cancel them, and try them
        again.
        """
        last: float | None = None
        while True:
            try:
                # By the ledger's clock, which may be hours from ours. What has begun before and is
                # committed later is seen as well: what is looked at twice is the same.
                now = await self._writer.perform(lambda ledger: ledger.now())
                seen = self._book.changes
                for record in await self._changed_since((last or now) - _LOOK):
                    await self._see(record, seen)
                last = now
            except MantisreedError as error:
                self._options.on_failure(f"the ledger cannot be followed: {error}")
            await asyncio.sleep(_LOOK)

    async def _see(self, record: JobRecord, seen: int) -> None:
        """Take in what the ledger says of a job.

        Args:
            record: the job.
            seen: how many changes the book had when the ledger was read.
        """
        order = self._book.get(record.id)
        if order is None or order.state == record.shown:
            return
        # The service that works on it sees it too. An order that ended while the ledger was read
        # would be opened again by its old record; the next look sees the new one.
        if self._book.is_anothers(order) or self._book.has_changed_since(order, seen):
            return
        try:
            await self._take_over(order, record, seen)
        except MantisreedError as error:
            self._options.on_failure(f"job {order.id} could not be noted: {error}")
            self._again(order, AGAIN_SECONDS)

    async def _changed_since(self, moment: float) -> list[JobRecord]:
        chosen = Filter(changed_since=moment)
        return await self._writer.perform(lambda ledger: ledger.listing.jobs(chosen))

    async def _take_over(self, order: Order, record: JobRecord, seen: int) -> None:
        """Take a job's state from the ledger, where it was not this service that has changed it."""
        cost = None if record.cost is None else round(float(record.cost), 6)
        if record.shown not in ENDED:
            stage = record.reason or ""
            await self._book.change(
                order, state=record.shown, stage=stage, finished=None, cost=cost
            )
            return
        options = order.options
        if record.state == "cancelled":
            # It may have been forgotten, with all that was asked for.
            options = msgspec.structs.replace(options, hints=None)
        facts = await asyncio.to_thread(facts_on_disk, self._workspace, record)
        if self._book.has_changed_since(order, seen):
            return  # meanwhile this service has noted its end itself
        await self._book.change(
            order,
            options=options,
            state=record.shown,
            stage="",
            **facts,
            error=record.reason if record.shown == "failed" else None,
            advice=None,
            finished=record.changed,
            cost=cost,
            webhook_state="waiting" if order.webhook else None,
        )
