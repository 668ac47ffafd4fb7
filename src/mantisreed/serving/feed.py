"""What happens, to whoever listens: server-sent events, one stream for each listener."""

import asyncio
import json
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field

from mantisreed.serving.orders import Order

_MOST_WAITING = (
    1000  # events of one listener that wait to be sent; who is slower is told to look again
)
_HEARTBEAT = 15.0  # seconds without an event after which a sign of life is sent


@dataclass(eq=False, slots=True)
class _Listener:
    """Somebody who listens: to which jobs, and what waits to be told."""

    wants: Callable[[Order], bool]
    prefix: str
    queue: "asyncio.Queue[tuple[bytes, bool]]" = field(
        default_factory=lambda: asyncio.Queue(_MOST_WAITING)
    )
    has_missed: bool = False
    is_over: asyncio.Event = field(default_factory=asyncio.Event)


class Feed:
    """Tells listeners of jobs that change."""

    def __init__(self, describe: Callable[[Order, str], object]) -> None:
        self._describe = describe
        self._listeners: set[_Listener] = set()
        self._number = 0

    def __len__(self) -> int:
        return len(self._listeners)

    def tell(self, order: Order, *, is_gone: bool = False) -> None:
        """Tell all who want it that a job has changed, or was forgotten."""
        self._number += 1
        events: dict[str, bytes] = {}
        for listener in self._listeners:
            if not listener.wants(order):
                continue
            if listener.prefix not in events:
                events[listener.prefix] = self._told(order, listener.prefix, is_gone=is_gone)
            try:
                listener.queue.put_nowait((events[listener.prefix], order.has_ended))
            except asyncio.QueueFull:
                listener.has_missed = True

    def _told(self, order: Order, prefix: str, *, is_gone: bool) -> bytes:
        if is_gone:
            return _event(self._number, "gone", {"id": order.id})
        return _event(self._number, "job", self._describe(order, prefix))

    def close(self) -> None:
        """End all streams."""
        for listener in self._listeners:
            listener.is_over.set()

    async def stream(
        self,
        wants: Callable[[Order], bool],
        first: list[Order],
        *,
        ends_with_job: bool,
        is_welcome: Callable[[], bool] = lambda: True,
        prefix: str = "",
    ) -> AsyncIterator[bytes]:
        """The events, as bytes of `text/event-stream`.

        Args:
            wants: which jobs.
            first: told at once, as they are.
            ends_with_job: whether the stream ends when a job has.
            is_welcome: whether whoever listens still may; asked before each thing that is told.
            prefix: of paths, under which whoever listens reaches the service.
        """
        listener = _Listener(wants, prefix)
        self._listeners.add(listener)
        try:
            yield b"retry: 2000\n\n"
            for order in first:
                yield _event(0, "job", self._describe(order, prefix))
                if ends_with_job and order.has_ended:
                    return
            while True:
                waiting = asyncio.ensure_future(listener.queue.get())
                over = asyncio.ensure_future(listener.is_over.wait())
                done, left = await asyncio.wait(
                    (waiting, over), timeout=_HEARTBEAT, return_when="FIRST_COMPLETED"
                )
                for one in left:
                    one.cancel()
                if over in done or not is_welcome():
                    return
                if waiting not in done:
                    yield b": still here\n\n"
                    continue
                event, has_ended = waiting.result()
                yield event
                if ends_with_job and has_ended:
                    return
                if listener.has_missed and listener.queue.empty():
                    listener.has_missed = False
                    yield b"event: missed\ndata: {}\n\n"
        finally:
            self._listeners.discard(listener)


def _event(number: int, kind: str, content: object) -> bytes:
    return (
        f"id: {number}\nevent: {kind}\ndata: {json.dumps(content, ensure_ascii=False)}\n\n".encode()
    )
