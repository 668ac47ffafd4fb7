"""Orders that workers do, on whichever machine: the service queues them, and follows the ledger."""

import asyncio
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from mantisreed.destinations.stored_outputs import local_folder
from mantisreed.engines.client import Ticket
from mantisreed.errors import InternalError, MantisreedError
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.records import JobRecord
from mantisreed.jobs.store.database import LedgerError
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.incoming.shared_storage import SharedStorage
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.pipeline.options import TranscriptionOptions
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.sent_jobs.cancelling import cancel_in_ledger, cancelled_at_engine
from mantisreed.pipeline.sent_jobs.forgetting import forget_stored
from mantisreed.serving.desk import Desk, DeskOptions
from mantisreed.serving.orders import ENDED, Order, OrderBook
from mantisreed.working.cards import digests_of_cards
from mantisreed.working.enqueueing import check_link, file_for_workers, job_to_queue
from mantisreed.working.queue import JobQueue, QueuedJob
from mantisreed.workspace import Workspace

_AWAY_SECONDS = 5.0  # until an order is queued that found the database away


class QueueDesk(Desk):
    """Lets workers take orders to their ends."""

    others_spend = True

    def __init__(
        self,
        workspace: Workspace,
        book: OrderBook,
        writer: LedgerWriter,
        queue: JobQueue,
        options: DeskOptions | None = None,
    ) -> None:
        """Queue nothing yet.

        Args:
            workspace: with the engine cards and the ledger.
            book: of the orders.
            writer: does things with the ledger, one after the other.
            queue: open for as long as orders come.
            options: how the orders are worked on.

        Raises:
            TrustError: the settings are not trusted with their storage.
        """
        super().__init__(workspace, book, writer, options)
        self._queue = queue
        self._storage = SharedStorage.of(workspace)
        self._cards = digests_of_cards(workspace)
        self._being_queued: set[str] = set()
        self._given_up: set[str] = set()  # orders that are cancelled, from before that is noted

    def can_take(self, order: Order) -> bool:
        """As any other; and whose recording is in the storage."""
        return order.stored is not None or super().can_take(order)

    async def keep(self, order: Order) -> None:
        """Put the recording of an order into the storage: once it is accepted, any service goes on
        with it, whatever becomes of this machine.

        Raises:
            RecordingError: it cannot be put there.
        """
        if order.link is None and self._storage is not None:
            source, digest = await asyncio.to_thread(
                file_for_workers, self._source_of(order), self._storage
            )
            order.stored, order.digest_of_sound = source.link, digest

    async def forget(self, order: Order) -> None:
        """Remove the recording of an order from the storage, unless another job needs it.

        Raises:
            InputError: it cannot be removed.
        """
        self._given_up.discard(order.id)
        # Two jobs of one sound share it in the storage.
        if order.stored is None or any(
            one.stored == order.stored and one.id != order.id for one in self._book
        ):
            return
        await asyncio.to_thread(self._remove_stored, order)

    def _remove_stored(self, order: Order) -> None:
        with closing(open_ledger(self._workspace)) as ledger:
            stored = replace(order.source, link=order.stored)
            forget_stored(self._workspace, ledger, order.id, order.digest_of_sound, stored)

    def take(self, order: Order) -> None:
        """Queue an order, unless that has begun."""
        if self._is_stopping or order.id in self._being_queued:
            return
        if order.id in self._wanted_again:
            self._given_up.discard(order.id)
        self._being_queued.add(order.id)
        self._later_on(self._queue_order(order))

    async def cancel(self, order: Order) -> None:
        """Send nothing more of an order; what was answered is kept.

        Raises:
            MantisreedError: the ledger cannot be used.
        """

        def cancel(ledger: Ledger) -> tuple[JobRecord, list[Ticket]]:
            return ledger.listing.job(order.id), cancel_in_ledger(ledger, order.id)

        self._given_up.add(order.id)
        try:
            record, tickets = await self._writer.perform(cancel)
        except MantisreedError:
            self._given_up.discard(order.id)
            raise
        await self._note_given_up(order)
        if tickets:
            self._later_on(self._tell_engine(record, tickets))

    async def _leave(self, limit: float) -> None:
        """Nothing is on its way here: workers go on."""

    async def _tell_engine(self, record: JobRecord, tickets: list[Ticket]) -> None:
        async with LateTransport() as transport:
            await cancelled_at_engine(self._workspace, record, tickets, transport)

    async def _queue_order(self, order: Order) -> None:
        try:
            record = await self._writer.perform(lambda ledger: ledger.listing.job(order.id))
            is_again = order.id in self._wanted_again
            if is_again or record.shown not in ENDED:
                await self._put(order, is_again=is_again)
                self._wanted_again.discard(order.id)
            elif record.shown != order.state:
                # A service that was restarted has not seen how it ended.
                await self._see(record, self._book.changes)
        except LedgerError as error:
            self._book.show(order, stage=str(error))
            self._again(order, _AWAY_SECONDS)
        except MantisreedError as error:
            await self._note_failed(order, error)
        except OSError as error:  # its recording is not there any more, or cannot be read
            await self._note_failed(order, InternalError.because(error, where=order.name))
        finally:
            self._being_queued.discard(order.id)

    async def _put(self, order: Order, *, is_again: bool) -> None:
        """Note an order as a job that workers are to take, and let them.

        Raises:
            LedgerError: the database cannot be used now.
            MantisreedError: its recording cannot be read, or not be put where workers find it.
        """
        options = self.checked(order.options)
        outputs = self._outputs_of(order.options)
        job = await asyncio.to_thread(self._job_of, order, options, outputs)

        def note(ledger: Ledger) -> bool:
            if order.id in self._given_up:
                return False
            return ledger.jobs.queue(job, 0, again=is_again)

        if await self._writer.perform(note):
            self._book.show(order, stage="it is in the queue")
            await self._queue.put([QueuedJob(job.id, job.engine)], self._cards)

    def _job_of(self, order: Order, options: TranscriptionOptions, outputs: Outputs) -> JobToOpen:
        source, digest = self._source_of(order), ""
        named = source.label
        if source.link is not None:
            check_link(source)
        elif order.stored is not None and not source.path.exists():
            # Another machine has taken it in.
            source = replace(source, path=Path(source.name), link=order.stored)
            digest = order.digest_of_sound
        else:
            source, digest = file_for_workers(source, self._storage)
        with closing(open_ledger(self._workspace)) as ledger:
            return job_to_queue(options, source, digest, outputs, ledger, named=named)

    def _folder_of_outputs(self) -> Path:
        into = self._workspace.settings.into
        if self._storage is not None:
            into = self._storage.folder_for(into)
        return local_folder(self._workspace.folder, self._workspace.hidden, into)
