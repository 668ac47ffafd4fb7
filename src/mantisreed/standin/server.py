"""Serving the stand-in engines on loopback, and writing the cards that tell how to speak to
them.
"""

import asyncio
import secrets
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path

import uvicorn
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Mount, Route

from mantisreed.errors import InputError, OutputError
from mantisreed.files import printable, write_whole
from mantisreed.guarded import LARGEST_HEAD, LimitedBodies, guarded
from mantisreed.standin import text_services
from mantisreed.standin.engines import (
    bittern,
    brook,
    dipper,
    heron,
    plover,
    rail,
    sedge,
    stilt,
    wren,
)
from mantisreed.standin.faults import FaultProfile, Weather
from mantisreed.standin.habits import EVERY_ENGINE, Habits
from mantisreed.standin.hearing import Listener
from mantisreed.state import make_folder

HOST = "127.0.0.1"

SERVED = {
    "brook": brook,
    "heron": heron,
    "sedge": sedge,
    "dipper": dipper,
    "plover": plover,
    "bittern": bittern,
    "rail": rail,
}
_LOCAL = {"wren": wren, "stilt": stilt}
_KEY_FILE = "standin.key"
_BELL_FILE = "standin.bell"

_MARK = (
    "# Engine cards of the stand-ins, written by mantisreed; written anew each time they start.\n"
)


def standins(listener: Listener, key: str, profile: FaultProfile | None = None) -> Starlette:
    """All stand-in engines and text services over HTTP, as one ASGI application, each under its own
    name.
    """
    profile = profile or FaultProfile()
    usual = profile.habits.get(EVERY_ENGINE, Habits())
    routes = {}
    for name, engine in SERVED.items():
        hearing = listener.with_habits(profile.habits.get(name, usual))
        if engine is dipper:
            routes[name] = engine.routes(hearing, key, profile)
        else:
            routes[name] = engine.routes(hearing, key)

    async def planted(request: Request) -> JSONResponse:
        return JSONResponse(
            {sound: list(map(asdict, faults)) for sound, faults in listener.planted.items()}
        )

    return Starlette(
        routes=[
            *(Mount(f"/{name}", routes=engine) for name, engine in routes.items()),
            *text_services.routes(listener.phrases, key),
            Route("/planted", planted),
        ],
        middleware=[
            Middleware(Weather, profile=profile),
            Middleware(LimitedBodies, largest=_LARGEST_BODY),
        ],
    )


def may_write_cards(file: Path) -> bool:
    """Whether the file is absent, or was written by `write_cards`."""
    try:
        return file.read_text(encoding="utf-8").startswith(_MARK)
    except FileNotFoundError:
        return True
    except (OSError, UnicodeDecodeError):
        return False


def check_cards_file(file: Path) -> None:
    """See that cards may be written to this file.

    Raises:
        OutputError: somebody else made it.
    """
    if not may_write_cards(file):
        raise OutputError(
            "exists and was not written by a stand-in",
            where=printable(file),
            advice="name another file",
        )


def write_cards(file: Path, address: str, key: str, listener: Listener, extra: str = "") -> None:
    """Write the engine cards for this address, with the key in a file beside them that only its
    owner can read.

    Args:
        file: what to write; a file that somebody else made is not overwritten.
        address: where the stand-ins listen.
        key: their key.
        listener: what they hear by.
        extra: more settings, as TOML.

    Raises:
        OutputError: it cannot be written, or is not ours.
    """
    check_cards_file(file)
    make_folder(file.parent)
    key_file = file.with_name(_KEY_FILE)
    write_whole(key_file, f"{key}\n".encode())
    # A key is for its owner alone, also where it opens nothing of value.
    key_file.chmod(0o600)
    bell_file = file.with_name(_BELL_FILE)
    write_whole(bell_file, f"{dipper.bell(key)}\n".encode())
    bell_file.chmod(0o600)
    cards = [engine.card(address, listener) for engine in (*SERVED.values(), *_LOCAL.values())]
    write_whole(file, "\n".join([_MARK, *cards, text_services.cards(address), extra]).encode())


def new_key() -> str:
    """A key nobody can guess."""
    return secrets.token_urlsafe(24)


_LARGEST_BODY = 512 * 1024 * 1024  # bytes
_MOST_CONNECTIONS = 4000  # of one address: all who try it out come from this machine


def bound_socket(port: int) -> socket.socket:
    """A listening socket on loopback; port 0 takes a free one.

    Raises:
        InputError: the port is taken or not allowed.
    """
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    # An answer in two parts would wait for 40 ms.
    listener.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    try:
        listener.bind((HOST, port))
    except (OSError, OverflowError) as error:
        listener.close()
        if isinstance(error, OSError) and error.strerror:
            reason = error.strerror.lower()
        else:
            reason = str(error)
        raise InputError(
            f"cannot listen on port {port} ({reason})", advice="choose another --port"
        ) from error
    return listener


def address_of(listener: socket.socket) -> str:
    """`http://127.0.0.1:PORT`."""
    return f"http://{HOST}:{listener.getsockname()[1]}"


def serve(application: Starlette, listener: socket.socket, on_ready: Callable[[], None]) -> None:
    """Serve until the process is asked to stop; `on_ready` is called once requests are answered."""
    asyncio.run(_serve(_server(application), listener, on_ready))


@contextmanager
def serving(application: Starlette, listener: socket.socket) -> Iterator[str]:
    """Serve from a thread of this process for as long as the context lasts; gives the address."""
    server, ready = _server(application), threading.Event()
    thread = threading.Thread(
        target=lambda: asyncio.run(_serve(server, listener, ready.set)), daemon=True
    )
    thread.start()
    ready.wait()
    try:
        yield address_of(listener)
    finally:
        server.should_exit = True
        thread.join()


def _server(application: Starlette) -> uvicorn.Server:
    config = uvicorn.Config(
        application,
        log_level="critical",
        access_log=False,
        lifespan="off",
        http=guarded(_MOST_CONNECTIONS),
        h11_max_incomplete_event_size=LARGEST_HEAD,
    )
    return uvicorn.Server(config)


async def _serve(
    server: uvicorn.Server, listener: socket.socket, on_ready: Callable[[], None]
) -> None:
    serving = asyncio.create_task(server.serve(sockets=[listener]))
    while not server.started and not serving.done():
        await asyncio.sleep(0.01)
    on_ready()
    await serving
