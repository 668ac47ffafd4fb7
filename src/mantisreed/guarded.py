"""Limits of what is served from here, for all servers of ours: nobody who connects can keep others out."""

import asyncio
from collections import Counter

from starlette.types import ASGIApp, Message, Receive, Scope, Send
from uvicorn.protocols.http.h11_impl import H11Protocol

LARGEST_HEAD = 32 * 1024
"""Bytes of a request's head."""

_ROUND = 10.0  # seconds after which it is looked whether something moves on a connection, again and again
_SLOWEST = 100  # bytes a second that a body comes at: slower than any sound that is sent while it is recorded
# Rounds in a row without progress after which a connection is cut off: while a head comes, while a body comes (it
# may cross a dead spot), and while nobody reads the answer.
_HEAD_ROUNDS, _BODY_ROUNDS, _READER_ROUNDS = 1, 3, 6


def guarded(most_of_one: int) -> type[asyncio.Protocol]:
    """A protocol that lets nobody keep others out: who says nothing, too slowly or too often is cut off.

    However long something takes that does move, as a large upload or a stream of events, it is left alone.

    Args:
        most_of_one: connections of one address at once.
    """
    connections: Counter[str] = Counter()

    class Guarded(H11Protocol):
        def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
            peer = transport.get_extra_info("peername") or ("?",)
            self._address = str(peer[0])
            connections[self._address] += 1
            self._come = self._unread = self._still = 0
            self._seen: object = None
            self._next_look = self.loop.call_later(_ROUND, self._look, transport)
            super().connection_made(transport)
            if connections[self._address] > most_of_one:
                transport.abort()

        def data_received(self, data: bytes) -> None:
            self._come += len(data)
            super().data_received(data)

        def connection_lost(self, exc: Exception | None) -> None:
            connections[self._address] -= 1
            if connections[self._address] <= 0:
                del connections[self._address]
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
            """For how many rounds it may stay as it is; 0 where something moves, or the application is at work."""
            if self.cycle is not self._seen:
                return 0  # another request has begun meanwhile
            if unread:
                return _READER_ROUNDS if unread >= self._unread > 0 else 0
            if self.cycle is None or self.cycle.response_complete:
                return _HEAD_ROUNDS
            is_awaited = self.cycle.more_body and not self.flow.read_paused
            return _BODY_ROUNDS if is_awaited and self._come < _SLOWEST * _ROUND else 0

    return Guarded


class LimitedBodies:
    """An application that takes bodies up to so many bytes; what is larger is answered with 413."""

    def __init__(self, app: ASGIApp, largest: int) -> None:
        self._application, self._largest = app, largest

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """See ASGI."""
        if scope["type"] != "http":
            await self._application(scope, receive, send)
            return
        headers = dict(scope["headers"])
        announced = headers.get(b"content-length", b"0")
        if not announced.isdigit() or int(announced[:20]) > self._largest:
            await _refuse(send)
            return
        got = 0

        async def counted() -> Message:
            nonlocal got
            message = await receive()
            got += len(message.get("body", b""))
            # Whoever sends more than was announced, or without end, has left, as far as the application knows.
            return message if got <= self._largest else {"type": "http.disconnect"}

        has_begun = False

        async def watched(message: Message) -> None:
            nonlocal has_begun
            if got <= self._largest or has_begun:
                has_begun = True
                await send(message)

        try:
            await self._application(scope, counted, watched)
        except Exception:
            if got <= self._largest:
                raise  # else it stumbled over a body that was cut off, which is the sender's fault and nobody's news
        if not has_begun:
            await _refuse(send)


_TOO_LARGE = (
    b'{"type":"about:blank","title":"too large","status":413,"detail":"the body is larger than what is taken here"}'
)


async def _refuse(send: Send) -> None:
    headers = [(b"connection", b"close"), (b"content-type", b"application/problem+json")]
    headers.append((b"content-length", str(len(_TOO_LARGE)).encode()))
    await send({"type": "http.response.start", "status": 413, "headers": headers})
    await send({"type": "http.response.body", "body": _TOO_LARGE})
