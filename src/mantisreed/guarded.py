"""Limits of what is served from here, for all servers of ours: nobody who connects can keep others
out.
"""

import asyncio
import json
import logging
import os
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any, ClassVar

from starlette.types import ASGIApp, Message, Receive, Scope, Send
from uvicorn.protocols.http.h11_impl import H11Protocol

_log = logging.getLogger(__name__)

LARGEST_HEAD = 32 * 1024
"""Bytes of a request's head."""

# seconds after which it is looked whether something moves on a connection, again and again
_ROUND = 10.0
# bytes a second that a body comes at: slower than any sound that is sent while it is recorded
_SLOWEST = 100
# Rounds in a row without progress after which a connection is cut off: while a head comes, while a
# body comes (it may cross a dead spot), and while nobody reads the answer.
_HEAD_ROUNDS, _BODY_ROUNDS, _READER_ROUNDS = 1, 3, 6
_FILES_TO_WORK = 64  # open files that are left for decoding, the ledger and engines
_ONCE_IN = 60.0  # seconds between two words about the same
# Seconds and bytes that who is refused has to finish what was begun.
_MOMENT, _MOST_UNWANTED = (
    5.0,
    64 << 20,
)


def guarded(most_of_one: int) -> type[asyncio.Protocol]:
    """A protocol that lets nobody keep others out: who says nothing, too slowly or too often is cut
    off.

    However long something takes that does move, as a large upload or a stream of events, it is left
    alone.

    Args:
        most_of_one: connections of one address at once.
    """

    class Guarded(_Guarded):
        by_address: ClassVar[Counter[str]] = Counter()
        most_of_one_address = most_of_one
        most_of_all = _most_connections()

    return Guarded


class _Guarded(H11Protocol):
    """See `guarded`; what connections share is with the class that it makes."""

    by_address: ClassVar[Counter[str]]
    most_of_one_address: int
    most_of_all: int

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        peer = transport.get_extra_info("peername") or ("?",)
        self._address = str(peer[0])
        self.by_address[self._address] += 1
        self._come = self._unread = self._still = 0
        self._seen: object = None
        self._next_look = self.loop.call_later(_ROUND, self._look, transport)
        super().connection_made(transport)
        is_one_too_many = self.by_address[self._address] > self.most_of_one_address
        if is_one_too_many or self.by_address.total() > self.most_of_all:
            transport.abort()

    def data_received(self, data: bytes) -> None:
        self._come += len(data)
        super().data_received(data)

    def connection_lost(self, exc: Exception | None) -> None:
        self.by_address[self._address] -= 1
        if self.by_address[self._address] <= 0:
            del self.by_address[self._address]
        self._next_look.cancel()
        super().connection_lost(exc)

    def _look(self, transport: asyncio.Transport) -> None:
        """Cut the connection off when nothing has moved on it for too many rounds."""
        unread = transport.get_write_buffer_size()
        patience = self._patience(unread)
        self._still = self._still + 1 if patience else 0
        if patience and self._still >= patience:
            transport.abort()
            return
        self._seen, self._come, self._unread = self.cycle, 0, unread
        self._next_look = self.loop.call_later(_ROUND, self._look, transport)

    def _patience(self, unread: int) -> int:
        """For how many rounds it may stay as it is; 0 where something moves, or the application is
        at work.
        """
        if self.cycle is not self._seen:
            return 0  # another request has begun meanwhile
        if unread:
            return _READER_ROUNDS if unread >= self._unread > 0 else 0
        if self.cycle is None or self.cycle.response_complete:
            return _HEAD_ROUNDS
        is_awaited = self.cycle.more_body and not self.flow.read_paused
        if is_awaited and self._come < _SLOWEST * _ROUND:
            return _BODY_ROUNDS
        return 0


def _most_connections() -> int:
    """As many as there may be files, but for those that work on what has come."""
    if os.name != "posix":
        return 10_000
    import resource

    soft, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft != resource.RLIM_INFINITY:
        return max(16, soft - _FILES_TO_WORK)
    return 10_000


@contextmanager
def quiet_about_files() -> Iterator[None]:
    """Say once a minute, in a line, that no connection can be taken as too many files are open; the
    event loop would tell it for each of them, with where in its code.
    """
    loop = asyncio.get_running_loop()
    before, told = loop.get_exception_handler(), -_ONCE_IN

    def handle(loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
        nonlocal told
        if not isinstance(context.get("exception"), OSError) or "accept" not in context["message"]:
            if before is not None:
                before(loop, context)
            else:
                loop.default_exception_handler(context)
            return
        if time.monotonic() - told >= _ONCE_IN:
            told = time.monotonic()
            _log.error("no connection can be taken: %s", context["exception"])

    loop.set_exception_handler(handle)
    try:
        yield
    finally:
        loop.set_exception_handler(before)


class LimitedBodies:
    """An application that takes bodies up to so many bytes; what is larger is answered with 413.

    Who is refused while still sending has a moment to finish: many clients only listen when they
    have sent all, and would find the connection closed in place of an answer.
    """

    def __init__(self, app: ASGIApp, largest: int) -> None:
        self._application, self._largest = app, largest

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """See ASGI."""
        if scope["type"] != "http":
            await self._application(scope, receive, send)
            return
        if (unwanted := _unwanted_head(scope)) is not None:
            await _refuse(send, unwanted)
            return
        headers = dict(scope["headers"])
        body = _Body(receive, self._largest, is_asked_for=b"expect" not in headers)
        answer = _Answer(send, body)
        announced = headers.get(b"content-length", b"0")
        if not announced.isdigit() or int(announced[:20]) > self._largest:
            await _refuse(answer.send, _TOO_LARGE)
            return
        try:
            await self._application(scope, body.receive, answer.send)
        except Exception:
            if not body.is_too_large:
                # else it stumbled over a body that was cut off, which is the sender's fault and
                # nobody's news
                raise
        if not answer.has_begun:
            body.is_too_large = False
            await _refuse(answer.send, _TOO_LARGE)


class _Body:
    """What comes with a request.

    Attributes:
        is_too_large: whether more has come than is taken; the application knows that as a sender
            who has left.
        is_over: whether nothing more comes.
    """

    def __init__(self, receive: Receive, largest: int, *, is_asked_for: bool) -> None:
        self._receive, self._largest = receive, largest
        self._is_asked_for = is_asked_for  # who expects to be told to go on sends nothing before
        self._got = 0
        self.is_too_large = self.is_over = False

    async def receive(self) -> Message:
        self._is_asked_for = True
        message = await self._next()
        if self._got > self._largest:
            self.is_too_large = True
            return {"type": "http.disconnect"}
        return message

    async def let_come(self) -> None:
        """Read what is left, for a moment, and keep nothing of it."""
        if not self._is_asked_for:
            return
        most = self._got + _MOST_UNWANTED
        with suppress(TimeoutError):  # whoever sends for longer is cut off
            async with asyncio.timeout(_MOMENT):
                while not self.is_over and self._got < most:
                    await self._next()

    async def _next(self) -> Message:
        message = await self._receive()
        self._got += len(message.get("body", b""))
        self.is_over = message["type"] != "http.request" or not message.get("more_body", False)
        return message


class _Answer:
    """What is answered; nothing once the body was too large, as then only that is."""

    def __init__(self, send: Send, body: _Body) -> None:
        self._send, self._body = send, body
        self._status = 0
        self.has_begun = False

    async def send(self, message: Message) -> None:
        if self._body.is_too_large and not self.has_begun:
            return
        self.has_begun = True
        if message["type"] == "http.response.start":
            self._status = message["status"]
        elif not message.get("more_body", False) and self._status >= 400 and not self._body.is_over:
            await self._send({**message, "more_body": True})
            await self._body.let_come()
            message = {"type": "http.response.body", "body": b""}
        await self._send(message)


_TOO_LARGE = (413, "too large", "the body is larger than what is taken here")
_TWO_LENGTHS = (400, "bad request", "a body has one length, and this request says two")
_LARGE_HEAD = (431, "head too large", f"a head has at most {LARGEST_HEAD} bytes")


def _unwanted_head(scope: Scope) -> tuple[int, str, str] | None:
    """Why a request is refused by its head alone; None where it is not.

    Where a body has two lengths (RFC 9112, 6.3), a proxy and we may not agree where the next
    request begins.
    """
    names = [name for name, _ in scope["headers"]]
    lengths = names.count(b"content-length")
    if lengths + names.count(b"transfer-encoding") > 1:
        return _TWO_LENGTHS
    size = sum(len(name) + len(value) + 4 for name, value in scope["headers"])
    size += len(scope.get("raw_path") or b"") + len(scope.get("query_string") or b"")
    return _LARGE_HEAD if size > LARGEST_HEAD else None


async def _refuse(send: Send, why: tuple[int, str, str]) -> None:
    status, title, detail = why
    problem = {"type": "about:blank", "title": title, "status": status, "detail": detail}
    body = json.dumps(problem).encode()
    headers = [(b"connection", b"close"), (b"content-type", b"application/problem+json")]
    headers.append((b"content-length", str(len(body)).encode()))
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
