"""What the services on a ledger were asked for: orders, in the ledger before they are accepted."""

import secrets
import time
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, nullcontext, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import msgspec

from mantisreed.errors import reason_of
from mantisreed.folders import check_no_link
from mantisreed.jobs.life import ShownState
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.options import RunOptions
from mantisreed.sources.recordings import Source

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.store.served import Served

HAS_TEXT = frozenset(("done", "no speech", "incomplete", "suspect", "follow-up failed"))
ENDED = HAS_TEXT | {"failed", "cancelled"}
"""States in which nothing more happens by itself."""


class Order(msgspec.Struct, kw_only=True):
    """One recording that somebody wants transcribed.

    Attributes:
        id: by which it is known to whoever sent it, and in the ledger.
        owner: the name of the token that sent it; empty for whoever is at this machine.
        name: of the recording, fit for showing.
        path: where it is on this machine, or would be; empty for a link that is fetched.
        link: the link; None for a file.
        is_ours: whether the file was uploaded, and goes when the job is forgotten.
        stored: its address in the storage that all services share; None where it is not there.
        digest_of_sound: of what is stored.
        upload: the id of the resumable upload that it was; None for none.
        options: what is wanted, whole.
        created, finished: seconds since 1970; None until it has ended.
        state: as the ledger has it.
        stage: what is being done at the moment, or why it waits.
        error, advice: why it failed or waits.
        kind: which kind of error that is, for counting.
        files: outputs, as paths.
        transcript: the file of the transcript; None where there is none yet.
        place: where these paths lead, as `place_of` tells it.
        corrections: how often somebody has begun, or ended, to save another transcript.
        words, doubts, duration, cost, currency, language: of the result, as far as they are known.
        webhook: where to call when it has ended; None for nowhere.
        profile: with which key such a call is signed: `live` or `test`.
        webhook_state: what became of the call: `waiting`, `done` or `failed`; None where there is
            none.
        most_bytes: of what a link leads to; None for no limit.
        most_seconds: of the recording; None for no limit.
        key: the idempotency key with which it was sent; None without one.
        digest: of the request with that key.
        service: that works on it, as it signs in the ledger; empty for whichever begins next.
    """

    id: str
    owner: str
    name: str
    path: str = ""
    link: str | None = None
    is_ours: bool = False
    stored: str | None = None
    digest_of_sound: str = ""
    upload: str | None = None
    options: RunOptions = RunOptions()
    created: float = 0.0
    finished: float | None = None
    state: ShownState = "waiting"
    stage: str = ""
    error: str | None = None
    advice: str | None = None
    kind: str | None = None
    files: tuple[str, ...] = ()
    transcript: str | None = None
    place: str = ""
    corrections: int = 0
    words: int | None = None
    doubts: int | None = None
    duration: float | None = None
    cost: float | None = None
    currency: str | None = None
    language: str | None = None
    webhook: str | None = None
    profile: Literal["live", "test"] = "live"
    webhook_state: str | None = None
    most_bytes: int | None = None
    most_seconds: float | None = None
    key: str | None = None
    digest: str | None = None
    service: str = ""

    @property
    def source(self) -> Source:
        """The recording. Others may want the same one at the same time; each has outputs of its
        own.
        """
        if self.link is None:
            return Source(Path(self.path), wanted_by=self.id, most_seconds=self.most_seconds)
        return Source(
            Path(self.name),
            self.link,
            wanted_by=self.id,
            most_bytes=self.most_bytes,
            most_seconds=self.most_seconds,
        )

    @property
    def has_ended(self) -> bool:
        """Whether nothing more happens by itself."""
        return self.state in ENDED

    @property
    def is_finished(self) -> bool:
        """Whether nothing is left to do: it has ended, and nobody is to be called about it."""
        return self.has_ended and self.webhook_state != "waiting"


def new_id() -> str:
    """An id that nobody can guess and that sorts by time."""
    return f"{int(time.time() * 1000):011x}{secrets.token_hex(6)}"


class KeyUsedError(Exception):
    """Another service has taken a request with this idempotency key a moment ago.

    Attributes:
        order: of that request.
    """

    def __init__(self, order: Order) -> None:
        super().__init__(order.id)
        self.order = order


class OrderBook:
    """All orders, in memory and in the ledger, where other services change them too.

    Attributes:
        own: how this service signs; empty before the book is open.
        unreadable: why orders in the ledger could not be read, by their IDs; they are left there,
            and their recordings are kept.
    """

    def __init__(
        self,
        writer: LedgerWriter,
        recordings: Path,
        on_change: Callable[[Order], None] = lambda order: None,
        on_gone: Callable[[Order], None] = lambda order: None,
    ) -> None:
        """Know of nothing yet.

        Args:
            writer: does things with the ledger.
            recordings: the folder of this machine that those are in which were uploaded here.
            on_change: called with an order whenever something about it has changed.
            on_gone: called with an order that another service has forgotten.
        """
        self._writer, self._recordings = writer, recordings
        self._on_change, self._on_gone = on_change, on_gone
        self.own = ""
        self.unreadable: dict[str, str] = {}
        self._orders: dict[str, Order] = {}
        self._by_key: dict[tuple[str, str], str] = {}
        self._numbers: dict[str, int] = {}  # of the last change that is known here
        self._forgotten: defaultdict[str, float] = defaultdict(float)
        self._dead: set[str] = set()  # services that have ended
        self._taken_in: set[str] = set()
        self._looked = 0.0  # by the ledger's clock, when others' changes were seen last
        # Changes that are shown here and not in the ledger yet, in order, by orders' IDs.
        self._pending: defaultdict[str, list[dict[str, Any]]] = defaultdict(list)
        self._changes = 0
        self._last_change: dict[str, int] = {}

    async def open(self) -> None:
        """Read what is there.

        Raises:
            LedgerError: the ledger cannot be used.
        """
        self.own, self._looked, rows = await self._writer.perform(
            # The clock first: what changes after it is seen by the first look.
            lambda ledger: (ledger.owner, ledger.now(), ledger.served.all())
        )
        for row in rows:
            self._take_in(row)

    def is_own(self, order: Order) -> bool:
        """Whether this service works on an order."""
        return order.service == self.own

    def is_anothers(self, order: Order) -> bool:
        """Whether another service works on an order, which lives as far as is known."""
        return order.service not in ("", self.own) and order.service not in self._dead

    async def take_over(self, orders: Iterable[Order]) -> list[Order]:
        """Make orders this service's own; gives those that are, as others that live keep theirs.

        Raises:
            LedgerError: it cannot be noted.
        """
        wanted = [order.id for order in orders]

        def note(ledger: "Ledger") -> list[tuple[Order, int]]:
            rows = ledger.served.to_change(wanted)
            bodies = {row.id: row.body for row in rows}
            found = [(_order_of(row), row.number) for row in rows]
            living = ledger.living({order.service for order, _ in found} - {ledger.owner})
            taken = []
            for order, number in found:
                if order.service in living:
                    taken.append((order, number))
                    continue
                order.service = ledger.owner
                ledger.served.change(order.id, _with(bodies[order.id], service=ledger.owner))
                taken.append((order, number + 1))
            return taken

        for now, number in await self._writer.perform(note):
            self._replace(now, number)
        # Also those that were its own already.
        mine = (self._orders.get(known) for known in wanted)
        return [order for order in mine if order is not None and self.is_own(order)]

    async def follow(self) -> list[Order]:
        """Take in what other services have changed; gives the orders that are not as they were.

        Raises:
            LedgerError: the ledger cannot be read.
        """
        others = {
            order.service
            for order in self._orders.values()
            if not order.is_finished and order.service not in ("", self.own)
        }

        def look(ledger: "Ledger") -> "tuple[set[str], list[Served], float]":
            numbers, now = ledger.served.numbers(self._looked - _LATELY)
            new = [
                known for known, number in numbers.items() if number > self._numbers.get(known, 0)
            ]
            return ledger.living(others), ledger.served.some(new) if new else [], now

        # Since the look before, however long ago: the ledger may have been away.
        living, rows, self._looked = await self._writer.perform(look)
        self._dead = others - living
        # What was taken in before a change of our own has been told to nobody yet.
        changed = self._taken_in | {known for row in rows if (known := self._take_in(row))}
        self._taken_in = set()
        orders = [self._orders[known] for known in sorted(changed & self._orders.keys())]
        for order in orders:
            self._on_change(order)
        return orders

    def __len__(self) -> int:
        return len(self._orders)

    def __iter__(self) -> Iterator[Order]:
        """The newest first."""
        return iter([self._orders[known] for known in sorted(self._orders, reverse=True)])

    def get(self, known: str) -> Order | None:
        """The order with an id."""
        return self._orders.get(known)

    def with_key(self, owner: str, key: str) -> Order | None:
        """The order that somebody has sent with this idempotency key."""
        return self._orders.get(self._by_key.get((owner, key), ""))

    async def add(self, order: Order) -> None:
        """Take an order, which is this service's own; when this returns it is in the ledger.

        Raises:
            KeyUsedError: another service has taken one with its idempotency key.
            LedgerError: it cannot be kept.
        """
        order.service = self.own
        # On the event loop: on the ledger's thread it might change meanwhile.
        body = msgspec.json.encode(order)

        def add(ledger: "Ledger") -> "Served | None":
            if ledger.served.add(order.id, order.owner, order.key, body):
                return None
            assert order.key is not None  # nothing else is refused
            return ledger.served.with_key(order.owner, order.key)

        before = await self._writer.perform(add)
        if before is not None:
            self._take_in(before)
            raise KeyUsedError(self._orders[before.id])
        self._replace(order, 1)
        self._on_change(order)

    def show(self, order: Order, **changes: Any) -> None:
        """Change what only this service tells of an order, such as how far it has come."""
        if _set(order, changes) and order.id in self._orders:
            self._on_change(order)

    async def change(self, order: Order, **changes: Any) -> None:
        """Change an order, as it is in the ledger by now: another service may have changed it.

        Raises:
            LedgerError: it cannot be noted.
        """
        await self.change_if(order, {}, **changes)

    async def change_if(self, order: Order, expected: dict[str, Any], **changes: Any) -> bool:
        """Change an order where it is in the ledger as expected.

        Args:
            order: one of the book's.
            expected: values that it must have in the ledger.
            changes: its new values.

        Returns:
            Whether it had these values; else nothing is changed, but what others have changed is
            taken in.

        Raises:
            LedgerError: it cannot be noted.
        """
        if not expected and not _set(order, changes):
            return True
        if order.id not in self._orders:
            return not expected  # it was forgotten meanwhile
        with nullcontext() if expected else self._shown_before_it_is_noted(order, changes):
            noted = await self._writer.perform(
                lambda ledger: _noted(ledger, order.id, expected, changes)
            )
        if noted is None:
            return not expected  # another service has forgotten it, which `follow` tells
        now, number, is_made = noted
        # It was changed since we have seen it.
        is_another = number != self._numbers.get(order.id)
        if is_another or expected:
            self._replace(now, number + 1 if is_made else number)
        if is_another:
            self._taken_in.add(order.id)
        if is_made:
            self._numbers[order.id] = number + 1
            self._on_change(order)
        return is_made

    @contextmanager
    def _shown_before_it_is_noted(self, order: Order, changes: dict[str, Any]) -> Iterator[None]:
        """What is taken in of an order meanwhile does not undo its changes here."""
        self._changes += 1
        self._last_change[order.id] = self._changes
        pending = self._pending[order.id]
        pending.append(changes)
        try:
            yield
        finally:
            # By what it is: another one may say the same.
            del pending[next(i for i, one in enumerate(pending) if one is changes)]
            if not pending:
                self._pending.pop(order.id, None)

    @property
    def changes(self) -> int:
        """The number of changes so far that were noted."""
        return self._changes

    def has_changed_since(self, order: Order, changes: int) -> bool:
        """Whether an order was changed after the book had seen so many changes."""
        return self._last_change.get(order.id, 0) > changes

    def forgotten(self, owner: str) -> float:
        """What somebody's jobs have cost that were forgotten: forgetting gives no money back."""
        return self._forgotten.get(owner, 0.0)

    async def remove(self, order: Order) -> None:
        """Forget an order, but for what it has cost.

        Raises:
            LedgerError: that cannot be noted.
        """
        if order.id not in self._orders:
            return
        cost = order.cost or 0.0
        number = await self._writer.perform(lambda ledger: ledger.served.forget(order.id, cost))
        # Where another service was first, `follow` tells what it has noted.
        if number is not None and self._drop(order):
            self._numbers[order.id] = number
            self._forgotten[order.owner] += cost

    def _take_in(self, row: "Served") -> str | None:
        """Take in what the ledger has; gives the ID of an order that is not as it was."""
        # Our own changes are in the ledger too.
        if row.number <= self._numbers.get(row.id, 0):
            return None
        if row.body is None:
            order = self._orders.get(row.id)
            if order is not None and self._drop(order):
                self._on_gone(order)
            self._forgotten[row.owner] += row.cost
            self._numbers[row.id] = row.number
            return None
        try:
            self._replace(_order_of(row), row.number)
        except (ValueError, msgspec.MsgspecError, OSError) as error:
            self.unreadable[row.id] = reason_of(error)
            self._numbers[row.id] = row.number
            return None
        return row.id

    def _replace(self, now: Order, number: int) -> None:
        """Have an order as the ledger has it; whoever holds it sees it."""
        if now.link is None and now.path:
            # Wherever it was taken in: nothing else is read here, and nothing else removed.
            own = self._recordings / now.id / Path(now.path).name
            now.path = str(own.absolute())
            with suppress(FileNotFoundError):  # it came to another machine
                check_no_link(own.absolute())
        # The same object for as long as the order lives: requests under way hold it.
        order = self._orders.setdefault(now.id, now)
        if order is not now:
            for changes in (msgspec.structs.asdict(now), *self._pending.get(now.id, ())):
                _set(order, changes)
        self._numbers[now.id] = number
        if now.key is not None:
            self._by_key[now.owner, now.key] = now.id

    def _drop(self, order: Order) -> bool:
        """Know no more of an order; whether something was known."""
        self._last_change.pop(order.id, None)
        if self._by_key.get((order.owner, order.key or "")) == order.id:
            del self._by_key[order.owner, order.key or ""]
        # Its number stays, so that its own end is no news.
        return self._orders.pop(order.id, None) is not None


_LATELY = 30.0
"""Seconds before the last look of which changes count as new as well: from when one is made until
others see it, a commit may wait for a lock, and none waits longer than that."""


def _set(order: Order, changes: dict[str, Any]) -> bool:
    """Set values of an order; whether that changes it."""
    if all(getattr(order, name) == value for name, value in changes.items()):
        return False
    for name, value in changes.items():
        setattr(order, name, value)
    return True


def _noted(
    ledger: "Ledger", known: str, expected: dict[str, Any], changes: dict[str, Any]
) -> tuple[Order, int, bool] | None:
    """Change an order in the ledger where it is as expected: what it is then, its number before,
    and whether it was changed. None where it is forgotten.
    """
    for row in ledger.served.to_change([known]):
        now = _order_of(row)
        if any(getattr(now, name) != value for name, value in expected.items()):
            return now, row.number, False
        _set(now, changes)
        ledger.served.change(now.id, _with(row.body, **changes))
        return now, row.number, True
    return None


def _with(body: bytes | None, **changes: Any) -> bytes:
    """What is kept of an order, changed. What a newer program has noted in it stays."""
    document = msgspec.json.decode(body or b"{}")
    return msgspec.json.encode({**document, **changes})


def _order_of(row: "Served") -> Order:
    """What is kept of an order.

    Raises:
        ValueError, MsgspecError: it is none.
    """
    order = msgspec.json.decode(row.body or b"", type=Order)
    if order.id != row.id or order.owner != row.owner:
        raise ValueError("it is another job's")
    if order.path and not order.is_ours:
        raise ValueError("its recording is not one that was taken over")
    return order
