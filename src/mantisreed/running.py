"""Running coroutines from plain calls: also where a loop runs already, and so that they can be
stopped.

A notebook has a loop in the thread that runs its cells. What is called there gets a thread and a
loop of its own, and Ctrl-C, which only the main thread hears, is handed on to it.
"""

import asyncio
import contextvars
import os
import signal
import threading
from collections.abc import Callable, Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from typing import Any, TypeVar

T = TypeVar("T")

_LAST_OUTPUT = 2.0  # seconds that a stopped program's pipes are read for
_BLOCK = 1 << 16  # bytes that are read at once
_SIGNALS = (signal.SIGINT, signal.SIGTERM)


class Interruption:
    """Stops from any thread what `interruptible` guards: first gently, then at once."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._pending = 0
        self._guard: tuple[asyncio.AbstractEventLoop, Callable[[], None]] | None = None

    def interrupt(self) -> None:
        """Do what Ctrl-C does."""
        with self._lock:
            if self._guard is None:
                self._pending += 1
            else:
                loop, interrupted = self._guard
                loop.call_soon_threadsafe(interrupted)

    def attach(self, loop: asyncio.AbstractEventLoop, interrupted: Callable[[], None]) -> None:
        """From now on interruptions call this, in its loop; those that came before do so at
        once.
        """
        with self._lock:
            self._guard = loop, interrupted
            pending, self._pending = self._pending, 0
        for _ in range(pending):
            interrupted()

    def detach(self) -> None:
        """What was guarded has ended."""
        with self._lock:
            self._guard = None


_current: contextvars.ContextVar[Interruption | None] = contextvars.ContextVar(
    "interruption", default=None
)


def run_interruptibly(work: Coroutine[Any, Any, T]) -> T:
    """What the work gives, whether or not a loop runs in this thread.

    Raises:
        KeyboardInterrupt: `interruptible` ended it.
    """
    try:
        if _has_loop():
            return _run_beside(work)
        return asyncio.run(work)
    except asyncio.CancelledError as error:
        raise KeyboardInterrupt from error


def _has_loop() -> bool:
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return False
    return True


def _run_beside(work: Coroutine[Any, Any, T]) -> T:
    """Run the work in a thread with a loop of its own; an interruption of this thread goes
    there.
    """
    interruption = _current.get() or Interruption()
    token = _current.set(interruption)
    try:
        context = contextvars.copy_context()
    finally:
        _current.reset(token)
    with ThreadPoolExecutor(1, "mantisreed") as pool:
        running = pool.submit(context.run, asyncio.run, work)
        while True:
            try:
                return running.result()
            except KeyboardInterrupt:
                if running.done():
                    raise
                interruption.interrupt()


async def run_in_thread(work: Callable[[], T]) -> T:
    """What a plain call gives, for callers with a loop: cancelling stops it as Ctrl-C does."""
    interruption = Interruption()

    def run() -> T:
        _current.set(interruption)
        return work()

    running = asyncio.ensure_future(asyncio.to_thread(run))
    try:
        return await asyncio.shield(running)
    except asyncio.CancelledError:
        interruption.interrupt()
        await asyncio.wait([running])
        raise


@contextmanager
def interruptible(interrupt: Callable[[], None]) -> Iterator[None]:
    """Within it, the first Ctrl-C (or SIGTERM) calls `interrupt`, the next one ends the running
    task.

    Signals are handled as before when it is over.
    """
    task, loop, times = asyncio.current_task(), asyncio.get_running_loop(), 0
    assert task is not None

    def interrupted() -> None:
        nonlocal times
        times += 1
        if times == 1:
            interrupt()
        else:
            task.cancel()

    before = {number: signal.getsignal(number) for number in _SIGNALS}
    handled = []
    try:
        for number in _SIGNALS:
            loop.add_signal_handler(number, interrupted)
            handled.append(number)
    except (NotImplementedError, RuntimeError, ValueError):
        pass  # not the main thread, or a system without: Ctrl-C ends everything at once
    interruption = _current.get()
    if interruption is not None:
        interruption.attach(loop, interrupted)
    try:
        yield
    finally:
        if interruption is not None:
            interruption.detach()
        for number in handled:
            loop.remove_signal_handler(number)
            # None stands for a handler that was not set from Python, and cannot be set again.
            if before[number] is not None:
                signal.signal(number, before[number])


async def stop_program(process: asyncio.subprocess.Process) -> None:
    """Stop a program with whatever it has started, and let go of its pipes."""
    with suppress(ProcessLookupError, PermissionError):  # it has ended by itself
        os.killpg(process.pid, signal.SIGKILL)

    async def drain(stream: asyncio.StreamReader | None) -> None:
        while stream is not None and await stream.read(_BLOCK):
            pass

    # Waiting for a process ends when its pipes are read to their end. What has left its session may
    # hold them open.
    with suppress(TimeoutError):  # what it still says does not matter
        await asyncio.wait_for(
            asyncio.gather(drain(process.stdout), drain(process.stderr)), _LAST_OUTPUT
        )
    process._transport.close()  # type: ignore[attr-defined]
    await process.wait()
