"""Changes of the ledger, made on one thread: those of one moment are committed at once."""

import asyncio
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from typing import TYPE_CHECKING, Any, TypeAlias, TypeVar

from mantisreed.errors import MantisreedError

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger

_MOST_TOGETHER = 100
_BEAT = 10.0  # seconds

T = TypeVar("T")
_Change: TypeAlias = "tuple[Callable[[Ledger], Any], asyncio.Future[Any]]"
_Result: TypeAlias = "tuple[asyncio.Future[Any], Any, BaseException | None]"


class LedgerWriter:
    """Does things with a ledger for an event loop. What has been awaited is on disk.

    For as long as it is open, other processes see that this one is alive.
    """

    def __init__(self, open_ledger: "Callable[[], Ledger]") -> None:
        """`open_ledger` is called on the thread, when there is something to do."""
        self._open_ledger = open_ledger
        self._ledger: Ledger | None = None
        self._urgent: deque[_Change] = deque()
        self._others: deque[_Change] = deque()
        self._something = threading.Condition()
        self._is_closing = False
        self._thread: threading.Thread | None = None

    async def noted(self, change: "Callable[[Ledger], T]", *, is_urgent: bool = False) -> T:
        """What the change gives, once it is committed; what is urgent is committed before the rest.

        Raises:
            LedgerError: the ledger cannot be used; the change was not made.
        """
        future: asyncio.Future[T] = asyncio.get_running_loop().create_future()
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
            self._ledger.close()
            self._ledger = None

    def _work(self) -> None:
        due = time.monotonic() + _BEAT
        while (together := self._next(due)) is not None:
            if together:
                results = self._made(together)
                loop = results[0][0].get_loop()
                if not loop.is_closed():
                    loop.call_soon_threadsafe(_resolve, results)
            if time.monotonic() >= due:
                self._beat()
                due = time.monotonic() + _BEAT

    def _next(self, due: float) -> "list[_Change] | None":
        """What is to be committed together next; empty when nothing comes until this moment, None at the end."""
        with self._something:
            while not (self._urgent or self._others):
                if self._is_closing:
                    return None
                if not self._something.wait(max(0.0, due - time.monotonic())):
                    return []
            waiting = self._urgent or self._others
            return [waiting.popleft() for _ in range(min(len(waiting), _MOST_TOGETHER))]

    def _beat(self) -> None:
        """Let other processes know that this one is alive; what it has under way is left to it."""
        if self._ledger is not None:
            with suppress(MantisreedError):  # the next change tells what is wrong
                self._ledger.beat()

    def _made(self, together: "list[_Change]") -> list[_Result]:
        try:
            if self._ledger is None:
                self._ledger = self._open_ledger()
            if len(together) > 1:
                with suppress(Exception), self._ledger.together():
                    return [(future, change(self._ledger), None) for change, future in together]
                # One of them failed, and none was made: now each by itself, so that only that one fails.
            return [_one(self._ledger, *one) for one in together]
        except BaseException as error:
            return [(future, None, error) for _, future in together]


def _one(ledger: "Ledger", change: "Callable[[Ledger], Any]", future: "asyncio.Future[Any]") -> _Result:
    try:
        return future, change(ledger), None
    except BaseException as error:
        return future, None, error


def _resolve(results: list[_Result]) -> None:
    for future, result, error in results:
        if future.done():
            continue  # nobody waits any more
        if error is None:
            future.set_result(result)
        else:
            future.set_exception(error)
