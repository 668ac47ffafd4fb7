"""The service as a whole: what its parts share, how it begins, and how it ends."""

import asyncio
import logging
import os
import secrets
import socket
import time
from collections.abc import Callable
from contextlib import AsyncExitStack, closing, suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING
from weakref import WeakValueDictionary

import msgspec

from mantisreed.cards.wire.transport import HttpTransport, Transport
from mantisreed.errors import InputError, MantisreedError
from mantisreed.folders import forget
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.under_way import UnderWay
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.incoming.shared_storage import SharedStorage
from mantisreed.pipeline.incoming.storage_cache import StorageCache
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.pipeline.sent_jobs.callbacks import CallbackListener, ServeHooks
from mantisreed.pipeline.sent_jobs.collecting import Collector
from mantisreed.serving.access import Access, is_loopback
from mantisreed.serving.calls import Caller, Profile
from mantisreed.serving.desk import Desk, DeskOptions
from mantisreed.serving.feed import Feed
from mantisreed.serving.metrics import Metrics
from mantisreed.serving.options import with_limit
from mantisreed.serving.orders import Order, OrderBook
from mantisreed.serving.own_desk import OwnDesk
from mantisreed.serving.playing import Playing
from mantisreed.serving.problems import Problem
from mantisreed.serving.proxies import Network
from mantisreed.serving.queue_desk import QueueDesk
from mantisreed.serving.receiving.intake import Intake, take_in
from mantisreed.serving.receiving.uploads import Uploads
from mantisreed.serving.results import facts_on_disk
from mantisreed.serving.routes.views import described
from mantisreed.serving.tokens import KnownTokens, TokenStore
from mantisreed.state import is_same_place, make_folder, place_of
from mantisreed.working.queue import JobQueue
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.engines.links import LinkOffers
    from mantisreed.secrets import Secret


_log = logging.getLogger(__name__)

_LOOK = 1.0  # seconds between two looks at what other services in the folder have done
_SOON = 2.0  # seconds in which the ledger says who works, or is not asked further
_LARGEST_ANSWER = 64 << 10  # bytes of an answer to a call, which nobody reads


@dataclass(frozen=True, slots=True)
class ServeOptions:
    """How the service is offered.

    Attributes:
        listen: `HOST:PORT`.
        engine: of jobs that name none; None takes the one in the settings.
        allowed: folders the files of which may be named by their paths.
        takes_private_links: whether links and calls may lead to this network.
        origins: addresses of other pages that may use the service.
        max_bytes, max_seconds: of a recording; None for no limit.
        max_stored: bytes of all recordings and uploads of one token; None for no limit.
        shutdown_timeout: seconds that what is on its way has when the service is stopped.
        keys: with which calls are signed, by profile.
        proxies: whose headers are believed about who sends a request, and under which path.
        root_path: the path under which it is reached; empty for none.
        is_queueing: whether workers do the jobs, on whichever machine.
    """

    listen: str = "127.0.0.1:8442"
    engine: str | None = None
    allowed: tuple[Path, ...] = ()
    takes_private_links: bool = False
    origins: tuple[str, ...] = ()
    max_bytes: int | None = 2 << 30
    max_seconds: float | None = None
    max_stored: int | None = None
    shutdown_timeout: float = 30.0
    keys: "dict[Profile, Secret | None]" = field(default_factory=dict)
    proxies: tuple[Network, ...] = ()
    root_path: str = ""
    is_queueing: bool = False

    @property
    def is_loopback(self) -> bool:
        """Whether only this machine reaches it."""
        return is_loopback(self.listen.rpartition(":")[0])


class Service:
    """All parts of the service, from when it begins to listen until it ends."""

    def __init__(
        self,
        workspace: Workspace,
        options: ServeOptions,
        on_failure: Callable[[str], None] = lambda what: None,
    ) -> None:
        """Begin nothing yet.

        Raises:
            InputError: it would listen to others without a token, its folder cannot be used, or
                there is no queue.
        """
        folder = workspace.hidden / "serve"
        self.workspace, self.options, self._on_failure = workspace, options, on_failure
        with closing(open_ledger(workspace)) as ledger:
            tokens = TokenStore(ledger).all()
            key = ledger.tokens.key("tickets", secrets.token_hex(32))
        if not options.is_loopback and not tokens:
            raise InputError(
                f"{options.listen} is reached from other machines, and there is no token",
                advice="`mantisreed tokens create NAME` makes one",
            )
        self.writer = LedgerWriter(lambda: open_ledger(workspace, "serve"))
        self.tokens = KnownTokens(self.writer, tokens)
        self.access = Access(
            self.tokens, options.is_loopback, options.origins, key=bytes.fromhex(key)
        )
        self.book = OrderBook(self.writer, folder / "recordings", self._changed, self._gone)
        storage = SharedStorage.of(workspace) if options.is_queueing else None
        self.feed = Feed(described)
        self.metrics = Metrics()
        self.intake = Intake(
            workspace,
            folder / "recordings",
            Uploads(folder / "uploads", self.writer, storage),
            tuple(Path(one).resolve() for one in options.allowed),
            options.takes_private_links,
            options.max_bytes,
            options.max_seconds,
            options.max_stored,
            owner_of=self._owner_of,
        )
        self.playing = Playing(folder / "played")
        self.links = self._offers()
        self.callbacks: CallbackListener | None = None
        self.desk: Desk | None = None
        self.is_stopping = False
        self._queue = JobQueue(workspace) if options.is_queueing else None
        self._caller: Caller | None = None
        self._ended: dict[str, asyncio.Event] = {}
        self.keys_in_use: set[tuple[str, str]] = set()
        self._counted: set[str] = set()
        self._told: set[str] = set()  # jobs that cannot be read
        self._turns: WeakValueDictionary[str, asyncio.Lock] = WeakValueDictionary()
        self._stack = AsyncExitStack()

    def _owner_of(self, job: str) -> str | None:
        order = self.book.get(job)
        return None if order is None else order.owner

    def _offers(self) -> "LinkOffers | None":
        if self.workspace.links is None:
            return None
        from mantisreed.engines.links import LinkOffers

        return LinkOffers(self.workspace.links.public)

    async def begin(self) -> None:
        """Read what is there, and go on with it."""
        transport = await self._stack.enter_async_context(LateTransport())
        transport.begin()  # the first recording is not to wait for it
        await self.book.open()
        self._counted = {order.id for order in self.book if order.has_ended}
        self._tell_unreadable()
        # What others in this folder are receiving is no rest of anything.
        if not await self._has_others_here():
            self.intake.clear({order.id for order in self.book} | self.book.unreadable.keys())
            self.playing.clear()
        self.desk = await self._opened_desk()
        self.intake.contents = self.desk.workers.contents
        await self.writer.perform(lambda ledger: ledger.recover())
        # Whoever sends a job names the address: unless that may be near, not even its name's next
        # answer leads there.
        calling: Transport = transport
        if not self.options.takes_private_links:
            calling = await self._stack.enter_async_context(
                HttpTransport(_LARGEST_ANSWER, takes_private=False)
            )
        self._caller = Caller(
            self.book,
            calling,
            self.options.keys,
            self.intake.check_call,
            prefix=self.options.root_path,
        )
        if self.workspace.callbacks is not None:
            collector = Collector(self.workspace, transport, writer=self.writer)
            hooks = ServeHooks(
                on_ready=lambda listen: None,
                on_done=lambda outcome: None,
                on_failure=self._on_failure,
            )
            self.callbacks = CallbackListener(self.workspace, self.writer, collector, hooks)
            rounds = asyncio.create_task(self.callbacks.rounds())
            self._stack.callback(rounds.cancel)
        await self.desk.purses.ready(order.owner for order in self.book)
        await self.desk.resume()
        for order in self.book:
            self._caller.look(order)
        following = asyncio.create_task(self._follow_others())
        self._stack.callback(following.cancel)

    async def _opened_desk(self) -> Desk:
        """Where orders are worked on: here, or by workers."""
        options = DeskOptions(
            takes_private_links=self.options.takes_private_links,
            on_failure=self._on_failure,
            limit_of=self.limit_of,
        )
        if self._queue is None:
            return OwnDesk(self.workspace, self.book, self.writer, options, links=self.links)
        await self._stack.enter_async_context(self._queue)
        return QueueDesk(self.workspace, self.book, self.writer, self._queue, options)

    def _tell_unreadable(self) -> None:
        """Tell of jobs in the ledger that cannot be read, once of each."""
        for known in sorted(self.book.unreadable.keys() - self._told):
            self._told.add(known)
            reason = self.book.unreadable[known]
            self._on_failure(f"job {known} cannot be read, and is left as it is ({reason})")

    async def _has_others_here(self) -> bool:
        """Whether another service lives on this machine, which may have the same folder."""
        found = await self.writer.perform(lambda ledger: ledger.under_way())
        this = socket.gethostname()
        return any(
            one.role == "serve" and one.host == this and one.pid != os.getpid()
            for one in found.processes
        )

    async def _follow_others(self) -> None:
        """See what other services on the ledger do, and take over what one has left."""
        while True:
            await asyncio.sleep(_LOOK)
            try:
                await self.tokens.freshen()  # those who listen to events show none again
                for order in await self.book.follow():
                    await self._go_on_with(order)
                self._tell_unreadable()
                await self._take_over()
            except MantisreedError as error:
                self._on_failure(f"the other services cannot be followed: {error}")
            except Exception as error:
                _log.exception("the other services could not be followed")
                self._on_failure(f"the other services could not be followed ({error!r})")

    async def _go_on_with(self, order: Order) -> None:
        """Do what another service was asked for with an order of this one."""
        if self.desk is None or not self.book.is_own(order):
            return
        if not order.has_ended:
            self.desk.take_again(order)
        elif order.state == "cancelled" and order.id in self.desk.on_their_way():
            await self.desk.cancel(order)

    async def _take_over(self) -> None:
        """Work on what a service has left that has ended."""
        if self.desk is None or self._caller is None:
            return
        left = [order for order in self.book if self._is_left(order, self.desk)]
        for order in await self.book.take_over(left) if left else ():
            if order.has_ended:
                self._caller.look(order)
            else:
                self.desk.take(order)

    def _is_left(self, order: Order, desk: Desk) -> bool:
        """Whether nobody works on an order, and this service can."""
        if order.is_finished or self.book.is_own(order) or self.book.is_anothers(order):
            return False
        return desk.can_take(order)

    def _gone(self, order: Order) -> None:
        """Another service has forgotten an order."""
        self._forget_sound(order)
        self.feed.tell(order, is_gone=True)

    def _forget_sound(self, order: Order) -> None:
        """Remove what this machine has of an order's recording."""
        if order.is_ours:
            forget(self.intake.folder / order.id)
        self.playing.forget(order.id)

    async def end(self) -> None:
        """Take nothing new, finish what is on its way or leave it resumable."""
        self.is_stopping = True
        if self._caller is not None:
            await self._caller.stop()
        if self.callbacks is not None:
            await self.callbacks.finish()
        if self.desk is not None:
            await self.desk.stop(self.options.shutdown_timeout)
        await self._stack.aclose()
        with suppress(MantisreedError):  # all notes that mattered have been waited for
            self.writer.close()

    def _changed(self, order: Order) -> None:
        if order.has_ended and order.id not in self._counted:
            self._counted.add(order.id)
            self.metrics.note(order)
        elif not order.has_ended:
            self._counted.discard(order.id)
        self.feed.tell(order)
        if order.has_ended:
            if (ended := self._ended.pop(order.id, None)) is not None:
                ended.set()
            if self._caller is not None:
                self._caller.look(order)

    async def accept(self, order: Order) -> Order:
        """Take an order: from now on it is in the ledger, and is worked on.

        Raises:
            KeyUsedError: another service has taken one with its idempotency key.
            Problem: the service is stopping, an option makes no sense, or the token may not spend
                that much.
            MantisreedError: it cannot be noted; nothing is left of it.
        """
        if self.is_stopping or self.desk is None:
            raise Problem(503, "the service is stopping", retry_after=10)
        if order.options.engine is None and self.options.engine is not None:
            order.options = msgspec.structs.replace(order.options, engine=self.options.engine)
        options = self.desk.checked(order.options)
        await self.admit(order)
        if order.options.engine is None:
            order.options = msgspec.structs.replace(order.options, engine=options.card.name)
        order.created = time.time()
        # Before it is accepted: from then on any service has what it takes to do it.
        await self.desk.keep(order)
        await self.book.add(order)
        try:
            await self.desk.announce(order, options.card)
        except MantisreedError:
            await self.book.remove(order)
            raise
        self.desk.take(order)
        return order

    async def admit(self, order: Order) -> None:
        """See that a job, new or tried again, has room in what its token may spend; this one asks
        nobody but whoever has the money. Each request asks the token's purse again before it is
        sent.

        A job of which nobody knows what it will cost, as that of a link, or one with a second
        opinion, may cost what is left, and nothing is left for others until it has ended.

        Raises:
            Problem: the service is stopping, an option makes no sense, or there is no room.
        """
        if self.is_stopping or self.desk is None:
            raise Problem(503, "the service is stopping", retry_after=10)
        card = self.desk.checked(order.options).card
        await self.desk.purses.ready([order.owner])
        room = self.desk.purses.admit(order, card, self.desk.on_their_way())
        if room is None:
            return
        if room.left is None:
            what = f"nobody knows what {card.name} costs, and this token may spend {room.limit:g}"
            raise Problem(403, what)
        if not room.has_room:
            raise Problem(
                403,
                f"this token may spend {room.limit:g}, and its jobs have cost {room.spent:.4f}",
                advice="ask for a higher limit, or wait for the jobs that are under way",
            )
        limit = self.desk.purses.limit_for(order, room)
        if limit is not None:
            order.options = with_limit(order.options, limit)

    def limit_of(self, owner: str) -> float | None:
        """What a token may spend; nothing more once it is revoked. None for no limit."""
        if not owner:
            return None
        token = next((one for one in self.tokens.all() if one.name == owner), None)
        return 0.0 if token is None else token.limits.spend

    async def ended(self, order: Order, seconds: float) -> bool:
        """Wait until an order has ended, for so many seconds; whether it has."""
        if not order.has_ended:
            event = self._ended.setdefault(order.id, asyncio.Event())
            try:
                await asyncio.wait_for(event.wait(), seconds)
            except TimeoutError:
                return order.has_ended
        return True

    def turn(self, job: str) -> asyncio.Lock:
        """Held by whoever changes a job, so that no change undoes another."""
        lock = self._turns.get(job)
        if lock is None:
            lock = self._turns[job] = asyncio.Lock()
        return lock

    async def under_way(self) -> UnderWay:
        """Who works on the ledger; nothing where it cannot say so soon."""
        if self.desk is None:
            return UnderWay()
        asked = self.writer.perform(lambda ledger: ledger.under_way())
        try:
            return await asyncio.wait_for(asked, _SOON)
        except (TimeoutError, MantisreedError):
            return UnderWay()

    async def forget(self, order: Order) -> None:
        """Remove an order with the recording that was uploaded for it; outputs and the job in the
        ledger stay.
        """
        if self.desk is not None:
            await self.desk.forget(order)  # first, as it may be refused
        await asyncio.to_thread(self._forget_sound, order)
        if self.desk is not None:
            order.cost = max(order.cost or 0.0, self.desk.purses.owed_for(order)) or order.cost
        await self.book.remove(order)

    async def bring(self, order: Order) -> None:
        """Have the outputs of an order on this machine, where another one has written them.

        Raises:
            MantisreedError: they cannot be had here.
        """
        here = place_of(self.workspace.hidden)
        # A folder that several machines share is the same place for all of them.
        if order.transcript is None or is_same_place(order.place, here):
            return
        record = await self.writer.perform(lambda ledger: ledger.listing.job(order.id))
        async with self.turn(f"{order.id} outputs"):
            facts = await asyncio.to_thread(facts_on_disk, self.workspace, record, is_changed=True)
        self.book.show(order, **facts)

    async def recording_of(self, order: Order) -> Path | None:
        """The recording of an order on this machine, fetched where another one has taken it in;
        None where it is not to be had.

        Raises:
            RecordingError: it cannot be fetched.
        """
        if order.link is not None:
            return None
        # Where it would be if it had come to this machine, wherever it has come to.
        path = Path(order.path)
        if not path.is_file() and order.stored is not None:
            async with self.turn(f"{order.id} sound"):
                if not path.is_file():
                    await self._fetch(order, path)
        return path if path.is_file() else None

    async def _fetch(self, order: Order, path: Path) -> None:
        """Copy a recording from the storage to where it would be if it had come to this machine."""
        cache = StorageCache.of(self.workspace)
        if cache is None:
            return
        await asyncio.to_thread(make_folder, path.parent)
        async with cache.file(replace(order.source, link=order.stored), path.parent) as found:
            with found.open("rb") as source:
                await asyncio.to_thread(take_in, source, path)

    def is_ready(self) -> bool:
        """Whether the ledger can be used."""
        try:
            ledger = open_ledger(self.workspace)
        except InputError:
            return False
        ledger.close()
        return not self.is_stopping
