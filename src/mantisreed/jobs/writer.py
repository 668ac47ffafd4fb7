"""Changes of the ledger, made on one thread: those of one moment are committed at once.

A commit waits for the disk; whatever comes meanwhile goes into the next one. While a database
server is away, all changes wait for it: an outage costs time only.
"""

import asyncio
import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any, TypeAlias, TypeVar

from mantisreed.errors import OutputError

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger

_log = logging.getLogger(__name__)

_MOST_TOGETHER = 100  # changes in one commit; more would let the first of them wait for too long
_OUTAGE_SECONDS = 600.0  # for which a database is waited for; a restart or a failover takes less
_OPENING_SECONDS = 15.0  # the same, before it was there at all
_FIRST_PAUSE, _LONGEST_PAUSE = 0.1, 2.0  # seconds between two looks whether it is back

T = TypeVar("T")
_Change: TypeAlias = "tuple[Callable[[Ledger], Any], asyncio.Future[Any]]"
_Result: TypeAlias = "tuple[asyncio.Future[Any], Any, BaseException | None]"


class LedgerWriter:
    """Does things with a ledger for an event loop. What has been awaited is on disk."""

    def __init__(
        self,
        open_ledger: "Callable[[], Ledger]",
        *,
        tell: Callable[[str], None] = _log.warning,
        patience: float = _OUTAGE_SECONDS,
    ) -> None:
        """Start nothing yet.

        Args:
            open_ledger: called on the thread, when there is something to do.
            tell: told, on the event loop, that the database is waited for.
            patience: seconds for which a database that went away is waited for.
        """
        self._open_ledger = open_ledger
        self._patience = patience
        self._opening_patience = min(patience, _OPENING_SECONDS)
        self._tell = tell
        self._loop: asyncio.AbstractEventLoop | None = None
        self._ledger: Ledger | None = None
        self._urgent: deque[_Change] = deque()
        self._others: deque[_Change] = deque()
        self._something = threading.Condition()
        self._debts: deque[_Owed] = deque()
        self._is_closing = False
        self._thread: threading.Thread | None = None
        self._waiting: dict[str, set[asyncio.Event]] = {}

    @property
    def is_listening(self) -> bool:
        """Whether other processes can tell this one that an engine has room."""
        return self._ledger is not None and self._ledger.is_listening

    async def notice(self, name: str) -> None:
        """Wait until another process tells that an engine may have room for this one.

        Args:
            name: of the engine.
        """
        event = asyncio.Event()
        self._waiting.setdefault(name, set()).add(event)
        try:
            await event.wait()
        finally:
            self._waiting[name].discard(event)

    def _noticed(self, name: str) -> None:
        loop = self._loop
        if loop is not None and not loop.is_closed():
            loop.call_soon_threadsafe(self._wake, name)

    def _wake(self, name: str) -> None:
        for event in self._waiting.get(name, ()):
            event.set()

    async def perform(
        self, change: "Callable[[Ledger], T]", *, is_urgent: bool = False, is_owed: bool = False
    ) -> T:
        """What the change gives, once it is committed.

        Args:
            change: what is done with the ledger.
            is_urgent: it is committed before the rest.
            is_owed: it notes what has happened already, such as an answer that is paid for. Where
                the disk has no room for it now, it is made before the next change that there is
                room for.

        Raises:
            LedgerError: the ledger cannot be used, or was away for too long; the change was not
                made.
            OutputError: a file beside it cannot be written; the change was not made.
        """
        self._loop = asyncio.get_running_loop()
        future: asyncio.Future[T] = self._loop.create_future()
        change = _Owed(change) if is_owed else change
        if self._thread is None:
            self._thread = threading.Thread(target=self._work, name="ledger", daemon=True)
            self._thread.start()
        with self._something:
            (self._urgent if is_urgent else self._others).append((change, future))
            self._something.notify()
        return await future

    def close(self) -> None:
        """Wait until all that was asked for is done, and let go of the ledger."""
        if self._thread is not None:
            with self._something:
                self._is_closing = True
                self._something.notify()
            self._thread.join()
            self._is_closing = False
            self._thread = None
        if self._ledger is not None:
            self._pay_debts(self._ledger)
            for debt in self._debts:
                # Whoever opens the ledger next sees that we are gone, and what it was about.
                _log.error("%s could not be noted", debt)
            self._debts.clear()
            self._ledger.close()
            self._ledger = None

    def _work(self) -> None:
        while together := self._next():
            results = self._made(together)
            loop = results[0][0].get_loop()
            if not loop.is_closed():
                loop.call_soon_threadsafe(_resolve, results)

    def _next(self) -> "list[_Change]":
        """What is to be committed together next; nothing at the end."""
        with self._something:
            while not (self._urgent or self._others):
                if self._is_closing:
                    return []
                self._something.wait()
            waiting = self._urgent or self._others
            return [waiting.popleft() for _ in range(min(len(waiting), _MOST_TOGETHER))]

    def _made(self, together: "list[_Change]") -> list[_Result]:
        """What came of each change; when the ledger cannot be opened, that is what came of all."""
        try:
            ledger = self._opened()
            self._pay_debts(ledger)
            if len(together) > 1:
                # When one of them fails, none is made: then each is made again, alone, below.
                with suppress(Exception), ledger.together():  # it is raised there
                    return [(future, change(ledger), None) for change, future in together]
            # One alone; or one of them failed and none was made: now each by itself, so that only
            # that one fails.
            return [self._one(ledger, *one) for one in together]
        except BaseException as error:
            # Whatever it is, it belongs to those who wait; the thread goes on for the next ones.
            return [(future, None, error) for _, future in together]

    def _opened(self) -> "Ledger":
        if self._ledger is None:
            # A server that is just being restarted is waited for; one that is not there is told.
            wait = _Outage(self._opening_patience, self._announce)
            self._opening_patience = 0.0  # once: whoever asks next is told at once
            while self._ledger is None:
                with wait.while_away():
                    self._ledger = self._open_ledger()
            self._ledger.on_notice(self._noticed)
        return self._ledger

    def _announce(self, text: str) -> None:
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._tell, text)

    def _one(
        self, ledger: "Ledger", change: "Callable[[Ledger], Any]", future: "asyncio.Future[Any]"
    ) -> _Result:
        try:
            return future, self._made_at_last(ledger, change), None
        except BaseException as error:
            if isinstance(change, _Owed) and _may_pass(error):
                self._debts.append(change)
            return future, None, error

    def _made_at_last(self, ledger: "Ledger", change: "Callable[[Ledger], Any]") -> Any:
        """What a change gives; while the database is away it is tried again, as nothing of it was
        made.
        """
        from mantisreed.jobs.request_rows import TakenForDeadError

        wait = _Outage(self._patience, self._announce)
        while True:
            try:
                with wait.while_away(), ledger.together():
                    return change(ledger)
            except TakenForDeadError:
                ledger.sign_on()

    def _pay_debts(self, ledger: "Ledger") -> None:
        """Make what could not be made, in order, until one cannot be made now either."""
        while self._debts:
            try:
                with ledger.together():
                    self._debts[0](ledger)
            except Exception as error:
                if _may_pass(error):
                    return
                # Somebody else has changed what it was about; then that is what counts.
                _log.info("%s is not noted any more: %s", self._debts[0], error)
            self._debts.popleft()


class _Owed:
    """A change that has to be made some time."""

    __slots__ = ("_change",)

    def __init__(self, change: "Callable[[Ledger], Any]") -> None:
        self._change = change

    def __call__(self, ledger: "Ledger") -> Any:
        return self._change(ledger)

    def __str__(self) -> str:
        return getattr(self._change, "__qualname__", "a change").partition(".<locals>")[0]


class _Outage:
    """Waits for a database that is away, for a while."""

    def __init__(self, patience: float, announce: Callable[[str], None]) -> None:
        self._patience, self._announce = patience, announce
        self._deadline: float | None = None
        self._pause = _FIRST_PAUSE

    @contextmanager
    def while_away(self) -> Iterator[None]:
        """Take it when the database is away, and wait a moment, so that it can be tried again.

        Raises:
            LedgerAwayError: it is away for too long.
        """
        from mantisreed.jobs.request_rows import TakenForDeadError
        from mantisreed.jobs.store.database import LedgerAwayError

        try:
            yield
        except TakenForDeadError:
            raise
        except LedgerAwayError as error:
            now = time.monotonic()
            if not self._patience:
                raise
            if self._deadline is None:
                self._deadline = now + self._patience
                self._announce(f"{error}; waiting until it is back")
            if now > self._deadline:
                raise
            time.sleep(self._pause)
            self._pause = min(2 * self._pause, _LONGEST_PAUSE)


def _may_pass(error: BaseException) -> bool:
    """Whether there may be room, or the database back, later."""
    from mantisreed.jobs.store.database import LedgerError

    return isinstance(error, LedgerError | OutputError | OSError)


def _resolve(results: list[_Result]) -> None:
    for future, result, error in results:
        if future.done():
            continue  # nobody waits any more
        if error is None:
            future.set_result(result)
        else:
            future.set_exception(error)
