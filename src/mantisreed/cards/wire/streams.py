"""Answers that come bit by bit: what a service has understood so far, and streams of events that
are taken up again where they broke off.
"""

import logging
import re
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Protocol

from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.errors import UnreachableError

_log = logging.getLogger(__name__)

_MOST_VAIN = 4  # connections in a row without a new event
_FIRST_PAUSE, _LONGEST_PAUSE = 1.0, 30.0  # seconds between two connections

_ID = re.compile(rb"^id:[ ]?([^\r\n\0]*)", re.MULTILINE)
_RETRY = re.compile(rb"^retry:[ ]?(\d{1,7})", re.MULTILINE)
_BLANK_LINE = re.compile(rb"\r\n\r\n|\n\n|\r\r")
_NO_MORE = 204  # HTML standard, 9.2.2: it tells a client not to connect again

OnText = Callable[[str], None]
"""Told the text that a service has understood so far."""

OnBlock = Callable[[bytes], None]
"""Told each block of an answer as it comes."""


def _log_text(text: str) -> None:
    _log.info("heard so far: %s", text)


_listener: ContextVar[OnText] = ContextVar("listener", default=_log_text)


@contextmanager
def heard_by(listener: OnText) -> Iterator[None]:
    """Let what services understand in this task be told to a listener while the context lasts."""
    token = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(token)


def tell_heard(text: str) -> None:
    """Tell the listener of this task what a service has understood so far."""
    _listener.get()(text)


class Stream(Protocol):
    """How the last answer of an exchange is read while it comes."""

    is_events: bool
    """Whether it is made of server-sent events."""

    def listener(self) -> OnBlock:
        """What hears one answer."""
        ...

    def is_whole(self, body: bytes) -> bool:
        """Whether an answer that has ended is all of it."""
        ...


class SendAfter(Protocol):
    """Makes the request for the events after one."""

    def __call__(self, last_id: str, on_block: OnBlock) -> Awaitable[HttpAnswer]:
        """Send it once; an empty id asks for all."""
        ...


class EventReader:
    """Reads a stream of events to its end, over as many connections as it takes."""

    def __init__(self, stream: Stream, sleep: Callable[[float], Awaitable[None]]) -> None:
        self._stream, self._sleep = stream, sleep

    async def answer(self, send: SendAfter) -> HttpAnswer:
        """All events, as one answer. One that ends too early, and whose service does not number its
        events or has no more of them, is given as it is.

        Raises:
            EngineError: a request failed and cannot be taken up.
        """
        kept, last_id, vain = b"", "", 0
        hear = self._stream.listener()
        while True:
            begun = bytearray()

            def note(block: bytes, begun: bytearray = begun) -> None:
                begun.extend(block)
                hear(block)

            lost: UnreachableError | None = None
            answer = HttpAnswer(200)
            try:
                answer = await send(last_id, note)
            except UnreachableError as error:
                lost = error
            else:
                if answer.status == _NO_MORE and kept:
                    return HttpAnswer(200, answer.headers, kept, answer.url)
                whole = kept + answer.body
                if self._stream.is_whole(whole):
                    return HttpAnswer(answer.status, answer.headers, whole, answer.url)
            # Half an event is sent again, whole.
            new = _whole_events(answer.body if lost is None else bytes(begun))
            ids = _ID.findall(new)
            # Only events with a number bring it further.
            vain = 0 if ids else vain + 1
            last_id = ids[-1].decode("utf-8", "replace") if ids else last_id
            if not last_id or vain >= _MOST_VAIN:
                if lost is not None:
                    raise lost
                return HttpAnswer(answer.status, answer.headers, kept + answer.body, answer.url)
            kept += new
            _log.info("the stream of events broke off after event %s; taking it up", last_id)
            await self._sleep(_pause(kept, vain))


def _whole_events(body: bytes) -> bytes:
    """The events that have come whole: what follows the last blank line has not."""
    ends = [match.end() for match in _BLANK_LINE.finditer(body)]
    return body[: ends[-1]] if ends else b""


def _pause(body: bytes, vain: int) -> float:
    """Seconds before the next connection: the service may have said how many."""
    said = _RETRY.findall(body)
    first = int(said[-1]) / 1000 if said else _FIRST_PAUSE
    # As the service asks, and longer with each vain try.
    return float(min(first * 2**vain, _LONGEST_PAUSE))
