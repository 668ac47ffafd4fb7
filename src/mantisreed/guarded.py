"""Limits of what is served from here, for all servers of ours: nobody who connects can keep others out."""

import asyncio
from collections import Counter

from starlette.types import ASGIApp, Message, Receive, Scope, Send
from uvicorn.protocols.http.h11_impl import H11Protocol

LARGEST_HEAD = 32 * 1024
"""Bytes of a request's head."""

_FIRST_REQUEST = 10.0  # seconds until a request's head is there
_LONGEST_CONNECTION = 900.0  # seconds that one is open, whatever is said on it


def guarded(most_of_one: int) -> type[asyncio.Protocol]:
    """A protocol that lets nobody keep others out: who says nothing, too slowly or too often is cut off.

    Args:
        most_of_one: connections of one address at once.
    """
    connections: Counter[str] = Counter()

    class Guarded(H11Protocol):
        def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
            peer = transport.get_extra_info("peername") or ("?",)
            self._address = str(peer[0])
            connections[self._address] += 1
            self._deadlines = [
                self.loop.call_later(_FIRST_REQUEST, self._cut_if_silent, transport),
                self.loop.call_later(_LONGEST_CONNECTION, transport.abort),
            ]
            super().connection_made(transport)
            if connections[self._address] > most_of_one:
                transport.abort()

        def connection_lost(self, exc: Exception | None) -> None:
            connections[self._address] -= 1
            if connections[self._address] <= 0:
                del connections[self._address]
            for deadline in self._deadlines:
                deadline.cancel()
            super().connection_lost(exc)

        def _cut_if_silent(self, transport: asyncio.Transport) -> None:
            if self.cycle is None:
                transport.abort()

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
