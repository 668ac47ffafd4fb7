"""Serving a web application inside a running program, for as long as a context lasts."""

import asyncio
import contextlib
import socket
from collections.abc import AsyncIterator, Iterator

import uvicorn
from starlette.types import ASGIApp

from mantisreed.errors import InputError
from mantisreed.guarded import LARGEST_HEAD, guarded, quiet_about_files

_MOST_OF_ONE = 64  # connections of one address
_MOST = 512  # of all


class _Server(uvicorn.Server):
    """A server that leaves signals to the program it is part of."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


@contextlib.asynccontextmanager
async def serving(
    application: ASGIApp,
    listen: str,
    *,
    key: str,
    most_of_one: int | None = None,
    most: int | None = _MOST,
) -> AsyncIterator[None]:
    """Serve until the context ends; requests that are under way then are finished.

    Args:
        application: what answers.
        listen: `HOST:PORT`; without a host on all of the machine's addresses.
        key: of the settings that says so, for messages.
        most_of_one: connections of one address at once; None for as many as is usual.
        most: connections at once; None for any number.

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
        http=guarded(_MOST_OF_ONE if most_of_one is None else most_of_one),
        limit_concurrency=most,
        timeout_keep_alive=5,
        timeout_graceful_shutdown=10,
        h11_max_incomplete_event_size=LARGEST_HEAD,
        server_header=False,
        proxy_headers=False,  # anybody can send them; `serving/proxies.py` knows whom to believe
    )
    server = _Server(config)
    with quiet_about_files():
        task = asyncio.create_task(server.serve([waiting]))
        try:
            # Its task may end before it has started, where the address is not to be had.
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
        waiting = socket.create_server((host, int(port)), reuse_port=False)
        # Connections have it from here. The event loop sets it itself only for sockets that name
        # their protocol; without it an answer in two parts waits for 40 ms.
        waiting.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        return waiting
    except (OSError, ValueError, OverflowError) as error:
        raise InputError(f"cannot listen on {listen} ({error})", advice=f"check {key}") from error
