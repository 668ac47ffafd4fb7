"""Where orders are worked on: each kind of options has a batch of its own, which takes recordings
as they come.
"""

import asyncio
import logging
import time
from collections.abc import Callable, Coroutine, Iterable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.destinations.stored_outputs import local_folder
from mantisreed.engines.card import EngineCard
from mantisreed.errors import InternalError, MantisreedError, SpendLimitError
from mantisreed.exports.formats import chosen_formats
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.life import JobEvent, ShownState
from mantisreed.jobs.records import Filter, JobRecord
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.open_files import fitted
from mantisreed.pipeline.options import (
    RunOptions,
    TranscriptionOptions,
    default_writing,
    stored_options,
    transcription_options,
)
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.runner import Runner
from mantisreed.pipeline.sent_jobs.choosing import let_go_of_unreadable, outputs_of_job
from mantisreed.pipeline.transcribe import RunHooks, check_links, ledger_of
from mantisreed.serving.orders import ENDED, Order, OrderBook
from mantisreed.serving.purses import Purses
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript, from_json
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.engines.links import LinkOffers

_log = logging.getLogger(__name__)

_AGAIN = 60.0  # seconds until what waits for an engine is tried again, where nobody says when
_LOOK = 2.0  # seconds after which the ledger is asked what others have done with the jobs
_IDLE = 30.0  # seconds without a recording after which a batch ends
_STRANGER = "https://whoever-sent-it.invalid/"  # names links that lead to the internet only


@dataclass(slots=True)
class _Lane:
    """A batch for orders with the same options."""

    runner: Runner
    task: "asyncio.Task[None] | None" = None
    under_way: int = 0
    last: float = 0.0


class Desk:
    """Takes orders to their ends."""

    def __init__(
        self,
        workspace: Workspace,
        book: OrderBook,
        *,
        takes_private_links: bool,
        links: "LinkOffers | None" = None,
        on_failure: Callable[[str], None] = lambda what: None,
        limit_of: Callable[[str], float | None] = lambda owner: None,
    ) -> None:
        """Work on nothing yet.

        Args:
            workspace: with the engine cards and the ledger.
            book: of the orders.
            takes_private_links: whether links may lead to this network.
            links: where pieces are offered to engines that fetch them.
            on_failure: called with what failed and does not end the service.
            limit_of: what the token with a name may spend; None for no limit.
        """
        self._workspace, self._book, self._links = workspace, book, links
        self._takes_private_links, self._on_failure = takes_private_links, on_failure
        self._lanes: dict[bytes, _Lane] = {}
        self._by_source: dict[
            str, tuple[Order, _Lane]
        ] = {}  # what a lane has, and will tell the outcome of
        self._given_up: set[str] = set()  # orders that were cancelled while a lane had them
        self._wanted_again: set[str] = set()  # orders that somebody has tried again
        self._is_stopping = False
        self.workers = DecodingWorkers()  # also those who only want to know what a recording is
        self._writer = LedgerWriter(lambda: ledger_of(workspace))
        self.purses = Purses(book, self._writer, limit_of)
        self._later: set[asyncio.TimerHandle] = set()
        self._noting: set[asyncio.Task[None]] = set()

    @property
    def writer(self) -> LedgerWriter:
        """Does things with the ledger, one after the other."""
        return self._writer

    @property
    def waiting(self) -> int:
        """Orders that are not at an end."""
        return sum(not order.has_ended for order in self._book)

    def on_their_way(self) -> set[str]:
        """The ids of orders of which something is sent or awaited, also of those that were
        cancelled a moment ago.
        """
        return {order.id for order, _ in self._by_source.values()} | self._given_up

    def resume(self) -> None:
        """Take up all orders that were not at an end when the service ended."""
        for order in self._book:
            if not order.is_finished and self._book.take_over(order) and not order.has_ended:
                self.take(order)
        self._following = asyncio.create_task(self._follow_ledger())

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

    def _source_of(self, order: Order) -> Source:
        stranger = None if self._takes_private_links or order.link is None else _STRANGER
        return replace(order.source, named_by=stranger)

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

    def _outputs_of(self, wanted: RunOptions) -> Outputs:
        workspace = self._workspace
        workspace.trust.require("writing", "database", "leading")
        folder = local_folder(workspace.folder, workspace.hidden, workspace.settings.into)
        writing = wanted.writing or default_writing(workspace)
        return Outputs(folder, workspace.hidden, chosen_formats(wanted.to or ()), options=writing)

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
            self._on_failure(
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
                    self._again(order, 0.1 if has_ended_well else _AGAIN)

    def _is_wanted(self, source: Source) -> bool:
        found = self._by_source.get(source.key)
        return found is not None and found[0].id not in self._given_up

    async def _end_when_idle(self, lane: _Lane) -> None:
        while True:
            await asyncio.sleep(_IDLE / 10)
            if not lane.under_way and time.monotonic() - lane.last > _IDLE:
                lane.runner.end()
                return

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

    def _tell(self, event: Event) -> None:
        found = self._by_source.get(event.recording.key)
        if found is None or found[0].id in self._given_up or event.stage in ("done", "failed"):
            return
        # Until its recording is there, nothing of it is in the ledger but that it waits.
        state: ShownState = "waiting" if event.stage == "fetching" else "sending"
        self._book.change(found[0], is_kept=False, state=state, stage=event.text())

    def _ended(self, outcome: Outcome) -> None:
        """What became of a recording."""
        found = self._by_source.pop(outcome.recording.key, None)
        if found is None:
            return
        order, lane = found
        lane.under_way -= 1
        lane.last = time.monotonic()
        self._later_on(self._accounted(order, outcome))

    def _later_on(self, noting: Coroutine[Any, Any, None]) -> None:
        """Note something that whoever calls does not wait for."""
        task = asyncio.create_task(noting)
        self._noting.add(task)
        task.add_done_callback(self._noted)

    def _noted(self, task: "asyncio.Task[None]") -> None:
        self._noting.discard(task)
        if not task.cancelled() and (error := task.exception()) is not None:
            _log.error("a job could not be noted", exc_info=error)
            self._on_failure(f"a job could not be noted ({type(error).__name__}: {error})")

    async def _accounted(self, order: Order, outcome: Outcome) -> None:
        """Note what an order has cost, and what became of it."""
        try:
            if outcome.job is not None:
                cost = outcome.cost
                self._book.change(
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
            self._on_failure(f"job {order.id} could not be noted: {error}")
            self._again(order, _AGAIN)

    async def _note(self, order: Order, outcome: Outcome) -> None:
        if outcome.state == "waiting" and not isinstance(outcome.error, SpendLimitError):
            until = getattr(outcome.error, "until", None)
            wait = max(1.0, until - time.time()) if until else _AGAIN
            self._book.change(order, state="waiting", stage=str(outcome.error or ""), error=None)
            self._again(order, wait)
            return
        if outcome.transcript is None:
            await self._note_failed(order, outcome.error or InternalError("nothing came back"))
            return
        assert outcome.job is not None
        self._wanted_again.discard(order.id)
        self._book.change(
            order,
            state=outcome.job.shown,
            stage="",
            **_facts_of(outcome.transcript, outcome.files),
            error=str(outcome.error) if outcome.error else None,
            advice=outcome.error.advice if outcome.error else None,
            finished=time.time(),
            webhook_state="waiting" if order.webhook else None,
        )

    async def _note_failed(self, order: Order, error: MantisreedError) -> None:
        # What failed before its recording was read is not noted in the ledger yet.
        await self._tell_ledger(order, "failed", str(error))
        self._book.change(
            order,
            state="failed",
            stage="",
            error=str(error),
            advice=error.advice,
            kind=type(error).__name__.removesuffix("Error"),
            finished=time.time(),
            webhook_state="waiting" if order.webhook else None,
        )

    async def _note_cancelled(self, order: Order) -> None:
        await self._tell_ledger(order, "cancelled", "cancelled by the user")

    async def _tell_ledger(self, order: Order, event: JobEvent, reason: str) -> None:
        def tell(ledger: Ledger) -> None:
            if ledger.listing.job(order.id).state not in ("done", "failed", "cancelled"):
                ledger.jobs.note(order.id, event, reason)

        await self._writer.perform(tell)

    async def _follow_ledger(self) -> None:
        """See what others do with the jobs: commands in this workspace cancel them, and try them
        again.
        """
        last = time.time()
        while True:
            await asyncio.sleep(_LOOK)
            # Clocks of several machines may differ a little; what is looked at twice is the same.
            since, last = last - _LOOK, time.time()
            seen = self._book.changes
            try:
                for record in await self._changed_since(since):
                    order = self._book.get(record.id)
                    if order is None or order.state == record.shown:
                        continue
                    # The service that works on it sees it too.
                    if self._book.is_anothers(order):
                        continue
                    # An order that ended while the ledger was read would be opened again by its
                    # old record; the next look sees the new one.
                    if not self._book.has_changed_since(order, seen):
                        await self._take_over(order, record)
            except MantisreedError as error:
                self._on_failure(f"the ledger cannot be followed: {error}")

    async def _changed_since(self, moment: float) -> list[JobRecord]:
        chosen = Filter(changed_since=moment)
        return await self._writer.perform(lambda ledger: ledger.listing.jobs(chosen))

    async def _take_over(self, order: Order, record: JobRecord) -> None:
        """Take a job's state from the ledger, where it was not this service that has changed it."""
        if order.id in self.on_their_way():
            if record.state == "cancelled" and order.id not in self._given_up:
                await self.cancel(order)
            return
        cost = None if record.cost is None else round(float(record.cost), 6)
        if record.shown not in ENDED:
            self._book.change(order, state=record.shown, finished=None, cost=cost)
            self._again(order, _AGAIN)
            return
        if record.state == "cancelled":
            # It may have been forgotten, with all that was asked for.
            order.options = msgspec.structs.replace(order.options, hints=None)
        facts = await asyncio.to_thread(_facts_on_disk, self._workspace, record)
        self._book.change(
            order,
            state=record.shown,
            stage="",
            **facts,
            error=record.reason if record.shown == "failed" else None,
            advice=None,
            finished=record.changed,
            cost=cost,
            webhook_state="waiting" if order.webhook else None,
        )

    async def cancel(self, order: Order) -> None:
        """Send nothing more of an order; what is on its way is waited for and kept."""
        key = self._source_of(order).key
        if key not in self._by_source:
            await self._note_cancelled(order)
        else:
            self._given_up.add(order.id)
            self._by_source[key][1].runner.stop_recording(key)
        called = "waiting" if order.webhook else None
        self._book.change(
            order, state="cancelled", stage="", finished=time.time(), webhook_state=called
        )

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
        self._book.change(
            order,
            state="waiting",
            stage="",
            error=None,
            advice=None,
            finished=None,
            webhook_state=None,
            files=(),
        )
        # Another service that works on it sees in its file that it is wanted again.
        if self._book.take_over(order):
            self.take(order)
        else:
            self._wanted_again.discard(order.id)

    def take_again(self, order: Order) -> None:
        """Work on an order that another service was asked to try again."""
        if order.id not in self.on_their_way():
            self._wanted_again.add(order.id)
            self.take(order)

    async def stop(self, limit: float) -> None:
        """Take nothing new, let what is on its way come in for so many seconds, and leave the rest
        resumable.
        """
        self._is_stopping = True
        self._following.cancel()
        for handle in self._later:
            handle.cancel()
        tasks = [lane.task for lane in self._lanes.values() if lane.task is not None]
        for lane in self._lanes.values():
            lane.runner.interrupt()
        if tasks:
            _, late = await asyncio.wait(tasks, timeout=limit)
            for task in late:
                task.cancel()
            await asyncio.gather(*late, return_exceptions=True)
        await asyncio.gather(*self._noting, return_exceptions=True)
        with suppress(MantisreedError):  # all notes that mattered have been waited for
            self._writer.close()
        self.workers.close()


def _facts_of(transcript: Transcript, files: Iterable[Path]) -> dict[str, Any]:
    """What an order tells of its result."""
    paths = [str(file.absolute()) for file in files]
    return {
        "files": tuple(paths),
        "transcript": next((one for one in paths if one.endswith(".transcript.json")), None),
        "words": len(transcript.words),
        "doubts": len(transcript.doubts_worth_hearing),
        "duration": transcript.recording.duration,
        "language": transcript.language,
    }


def _facts_on_disk(workspace: Workspace, record: JobRecord) -> dict[str, Any]:
    """The same of a job that another process has written."""
    if record.state != "done":
        return {}
    stored = stored_options(record)
    paths = outputs_of_job(workspace, stored).paths(stored.output_stem)
    files = [path for path in paths if path.exists()]
    document = next((path for path in files if path.name.endswith(".transcript.json")), None)
    return {} if document is None else _facts_of(from_json(document.read_bytes()), files)
