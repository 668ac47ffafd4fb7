"""Serving a web application inside a running program, for as long as a context lasts."""

import asyncio
import contextlib
import socket
from collections import Counter
from collections.abc import AsyncIterator, Iterator

import uvicorn
from starlette.types import ASGIApp
from uvicorn.protocols.http.h11_impl import H11Protocol

from mantisreed.errors import InputError

_FIRST_REQUEST = 10.0  # seconds until a request's head is there
_LONGEST_CONNECTION = 900.0  # seconds that one is open, whatever is said on it
_MOST_OF_ONE = 64  # connections of one address
_MOST = 512  # of all
_LARGEST_HEAD = 32 * 1024  # bytes


def _guarded(connections: Counter[str]) -> type[asyncio.Protocol]:
    """A protocol that lets nobody keep others out: who says nothing, too slowly or too often is cut off."""

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
            if connections[self._address] > _MOST_OF_ONE:
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


class _Server(uvicorn.Server):
    """A server that leaves signals to the program it is part of."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


@contextlib.asynccontextmanager
async def serving(application: ASGIApp, listen: str, *, key: str) -> AsyncIterator[None]:
    """Serve until the context ends; requests that are under way then are finished.

    Args:
        application: what answers.
        listen: `HOST:PORT`; without a host on all of the machine's addresses.
        key: of the settings that says so, for messages.

    Raises:
        InputError: the address cannot be listened on.
    """
    waiting = _bound(listen, key)
    config = uvicorn.Config(
        application,
        log_level="error",
        access_log=False,
        lifespan="off",
        ws="none",
        http=_guarded(Counter()),
        limit_concurrency=_MOST,
        timeout_keep_alive=5,
        timeout_graceful_shutdown=10,
        h11_max_incomplete_event_size=_LARGEST_HEAD,
        server_header=False,
    )
    server = _Server(config)
    task = asyncio.create_task(server.serve([waiting]))
    try:
        while not server.started and not task.done():
            await asyncio.sleep(0.005)
        yield
    finally:
        server.should_exit = True
        await task
        waiting.close()


def _bound(listen: str, key: str) -> socket.socket:
    host, _, port = listen.rpartition(":")
    try:
        return socket.create_server((host, int(port)), reuse_port=False)
    except (OSError, ValueError, OverflowError) as error:
        raise InputError(f"cannot listen on {listen} ({error})", advice=f"check {key}") from error
