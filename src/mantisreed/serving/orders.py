"""What the service was asked for: orders, each in a file, on disk before it is accepted."""

import secrets
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal, NamedTuple

import msgspec

from mantisreed.errors import InputError, OutputError, reason_of
from mantisreed.files import cannot_write, printable, write_whole
from mantisreed.folders import check_no_link, read, remove
from mantisreed.jobs.life import ShownState
from mantisreed.pipeline.options import RunOptions
from mantisreed.serving.services import Services
from mantisreed.sources.recordings import Source
from mantisreed.state import make_folder

HAS_TEXT = frozenset(("done", "no speech", "incomplete", "suspect", "follow-up failed"))
ENDED = HAS_TEXT | {"failed", "cancelled"}
"""States in which nothing more happens by itself."""


class Order(msgspec.Struct, kw_only=True):
    """One recording that somebody wants transcribed.

    Attributes:
        id: by which it is known to whoever sent it, and in the ledger.
        owner: the name of the token that sent it; empty for whoever is at this machine.
        name: of the recording, fit for showing.
        path: where it is on this machine; empty for a link that is fetched.
        link: the link; None for a file.
        is_ours: whether the file was uploaded, and goes when the job is forgotten.
        upload: the id of the resumable upload that it was; None for none.
        options: what is wanted, whole.
        created, finished: seconds since 1970; None until it has ended.
        state: as the ledger has it.
        stage: what is being done at the moment, or why it waits.
        error, advice: why it failed or waits.
        kind: which kind of error that is, for counting.
        files: outputs, as paths.
        transcript: the file of the transcript; None where there is none yet.
        words, doubts, duration, cost, currency, language: of the result, as far as they are known.
        webhook: where to call when it has ended; None for nowhere.
        profile: with which key such a call is signed: `live` or `test`.
        webhook_state: what became of the call: `waiting`, `done` or `failed`; None where there is
            none.
        most_bytes: of what a link leads to; None for no limit.
        most_seconds: of the recording; None for no limit.
        key: the idempotency key with which it was sent; None without one.
        digest: of the request with that key.
        service: that works on it, as it signs; empty for whichever begins next.
    """

    id: str
    owner: str
    name: str
    path: str = ""
    link: str | None = None
    is_ours: bool = False
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


class _Seen(NamedTuple):
    """Which writing of a file was read; each makes a new file."""

    number: int
    moment: int

    @classmethod
    def of(cls, file: Path) -> "_Seen":
        found = file.stat()
        return cls(found.st_ino, found.st_mtime_ns)


@dataclass(slots=True)
class OrderBook:
    """All orders, in memory and each in a file of its own.

    Attributes:
        folder: where the files are.
        services: who works on orders in this folder.
        on_change: called with an order whenever something about it has changed.
        on_gone: called with an order that another service has forgotten.
        unreadable: why files of jobs could not be read, by the jobs' ids; their recordings are
            kept.
    """

    folder: Path
    services: Services
    on_change: Callable[[Order], None] = lambda order: None
    on_gone: Callable[[Order], None] = lambda order: None
    unreadable: dict[str, str] = field(default_factory=dict)
    _orders: dict[str, Order] = field(default_factory=dict)
    _by_key: dict[tuple[str, str], str] = field(default_factory=dict)
    _forgotten: dict[str, float] = field(default_factory=dict)
    _changes: int = 0
    _last_change: dict[str, int] = field(default_factory=dict)
    _seen: dict[str, _Seen] = field(default_factory=dict)
    _taken_in: set[str] = field(default_factory=set)

    def open(self) -> None:
        """Read what is there; a file that cannot be read is left where it is, and is in
        `unreadable`.

        Raises:
            InputError: what was spent by forgotten jobs cannot be read: nobody would know what may
                be spent.
        """
        make_folder(self.folder)
        try:
            self._forgotten = msgspec.json.decode(read(self._spent_file), type=dict[str, float])
        except FileNotFoundError:
            pass  # nothing was forgotten so far
        except (OSError, msgspec.MsgspecError) as error:
            raise InputError(
                f"the costs of tokens cannot be read ({reason_of(error)})",
                where=printable(self._spent_file),
                advice="repair it or move it away; without it, their limits begin anew",
            ) from error
        for file in sorted(self.folder.glob("*.json")):
            try:
                self._take(self._read(file))
            except (OSError, ValueError, msgspec.MsgspecError) as error:
                self.unreadable[file.stem] = reason_of(error)

    def is_own(self, order: Order) -> bool:
        """Whether this service works on an order."""
        return order.service == self.services.own

    def is_anothers(self, order: Order) -> bool:
        """Whether another service that lives works on an order."""
        return not self.is_own(order) and self.services.is_there(order.service)

    def take_over(self, order: Order) -> bool:
        """Make an order this service's own, unless one that lives works on it.

        Raises:
            OutputError: it cannot be noted.
        """
        with self.services.turn():
            self._look_at(order)
            if self.is_anothers(order):
                return False
            self._set(order, {"service": self.services.own}, is_kept=True)
        return True

    def follow(self) -> list[Order]:
        """Take in what other services have changed; gives the orders that are not as they were."""
        found = {file.stem: file for file in self.folder.glob("*.json")}
        new = {known for known, file in found.items() if self._is_new(file)} | self._taken_in
        self._taken_in.clear()
        changed = [self._orders[known] for known in sorted(new & self._orders.keys())]
        for order in changed:
            self.on_change(order)
        for known in self._orders.keys() - found.keys():
            order = self._orders[known]
            self._drop(order)
            self.on_gone(order)
        return changed

    def _is_new(self, file: Path) -> bool:
        """Take in how an order is on disk; whether somebody else has written it."""
        order = self._orders.get(file.stem)
        try:
            if order is not None:
                return self._look_at(order)
            if file.stem not in self.unreadable:
                self._take(self._read(file))
                return True
        except (OSError, ValueError, msgspec.MsgspecError):
            pass  # it is being written or removed at this moment; the next look sees it
        return False

    def _look_at(self, order: Order) -> bool:
        """Take in how an order is on disk; whether another service has changed it."""
        file = self.folder / f"{order.id}.json"
        if _Seen.of(file) == self._seen.get(order.id):
            return False
        now = self._read(file)
        for name in order.__struct_fields__:
            setattr(order, name, getattr(now, name))
        return True

    def _read(self, file: Path) -> Order:
        """An order's file.

        Raises:
            OSError, ValueError, MsgspecError: it is not one.
        """
        seen = _Seen.of(file)
        order = msgspec.json.decode(read(file), type=Order)
        self._check(order, file)
        self._seen[order.id] = seen
        return order

    def _check(self, order: Order, file: Path) -> None:
        """See that an order is the one of its file, and its recording the one in its own folder.

        Raises:
            ValueError: it is not.
            OSError: a link is in the way.
        """
        if order.id != file.stem:
            raise ValueError("it is another job's")
        if order.link is not None or not order.path:
            return
        if not order.is_ours:
            raise ValueError("its recording is not one that was taken over")
        # Wherever its file says that it is: nothing else is read, and nothing else removed.
        own = self.folder.parent / "recordings" / order.id / Path(order.path).name
        order.path = str(check_no_link(own.absolute()))

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

    def add(self, order: Order) -> None:
        """Take an order, which is this service's own; when this returns it is on disk.

        Raises:
            OutputError: it cannot be written.
        """
        order.service = self.services.own
        self._write(order)
        self._take(order)
        self.on_change(order)

    def change(self, order: Order, *, is_kept: bool = True, **changes: Any) -> None:
        """Change an order, as it is on disk by now: another service may have written it.

        Args:
            order: one of the book's.
            is_kept: whether it is put on disk; what only says how far it has come is not.
            changes: its new values.

        Raises:
            OutputError: it cannot be written.
        """
        if not is_kept or not self.services.traces():
            self._set(order, changes, is_kept)
            return
        with self.services.turn():
            if self._take_in(order):
                self._set(order, changes, is_kept)

    def _take_in(self, order: Order) -> bool:
        """Take in an order before it is changed, so that the other's change is not written over
        and `follow` still tells of it; whether there is such an order any more.
        """
        try:
            if self._look_at(order):
                self._taken_in.add(order.id)
        except FileNotFoundError:
            return order.id not in self._orders  # only its values are set, as of one forgotten
        except (OSError, ValueError, msgspec.MsgspecError) as error:
            file = self.folder / f"{order.id}.json"
            raise OutputError(
                f"cannot be read ({reason_of(error)})", where=printable(file)
            ) from error
        return True

    def _set(self, order: Order, changes: dict[str, Any], is_kept: bool) -> None:
        if all(getattr(order, name) == value for name, value in changes.items()):
            return
        for name, value in changes.items():
            setattr(order, name, value)
        if order.id not in self._orders:
            return  # it was forgotten meanwhile
        if is_kept:
            self._changes += 1
            self._last_change[order.id] = self._changes
            self._write(order)
        self.on_change(order)

    @property
    def changes(self) -> int:
        """The number of changes so far that were put on disk."""
        return self._changes

    def has_changed_since(self, order: Order, changes: int) -> bool:
        """Whether an order was changed after the book had seen so many changes."""
        return self._last_change.get(order.id, 0) > changes

    @property
    def _spent_file(self) -> Path:
        return self.folder.parent / "spent.json"

    def forgotten(self, owner: str) -> float:
        """What somebody's jobs have cost that were forgotten: forgetting gives no money back."""
        return self._forgotten.get(owner, 0.0)

    def remove(self, order: Order) -> None:
        """Forget an order, but for what it has cost.

        Raises:
            OutputError: that cannot be noted, or its file cannot be removed.
        """
        if order.cost and order.id in self._orders:
            self._forgotten[order.owner] = self._forgotten.get(order.owner, 0.0) + order.cost
            write_whole(self._spent_file, msgspec.json.encode(self._forgotten))
        self._drop(order)
        file = self.folder / f"{order.id}.json"
        try:
            is_gone = remove(file)
        except OSError as error:
            raise cannot_write(file, error) from error
        if not is_gone:
            raise OutputError("cannot be removed", where=printable(file))

    def _take(self, order: Order) -> None:
        self._orders[order.id] = order
        if order.key is not None:
            self._by_key[order.owner, order.key] = order.id

    def _drop(self, order: Order) -> None:
        for known in (self._orders, self._last_change, self._seen):
            known.pop(order.id, None)
        if self._by_key.get((order.owner, order.key or "")) == order.id:
            del self._by_key[order.owner, order.key or ""]

    def _write(self, order: Order) -> None:
        file = self.folder / f"{order.id}.json"
        write_whole(file, msgspec.json.encode(order))
        self._seen[order.id] = _Seen.of(file)
