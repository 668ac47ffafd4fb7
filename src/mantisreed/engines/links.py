"""Offering a piece at a one-time address, for engines that fetch the audio themselves."""

import secrets
from types import TracebackType
from typing import Self

from aiohttp import web

from mantisreed.errors import InputError


class LinkServer:
    """Serves what is offered, each at an address that nobody can guess, until it is withdrawn.

    Used as an asynchronous context manager.
    """

    def __init__(self, listen: str, public: str) -> None:
        """Args:
        listen: `HOST:PORT` to listen on.
        public: the address under which others reach that port, such as `https://files.marsh.example`.
        """
        self._listen = listen
        self._public = public.rstrip("/")
        self._offers: dict[str, tuple[bytes, str]] = {}
        self._runner: web.AppRunner

    async def __aenter__(self) -> Self:
        application = web.Application()
        application.router.add_get("/pieces/{token}", self._serve)
        self._runner = web.AppRunner(application, access_log=None)
        await self._runner.setup()
        host, _, port = self._listen.rpartition(":")
        try:
            await web.TCPSite(self._runner, host or "0.0.0.0", int(port)).start()  # noqa: S104 - the user's choice
        except (OSError, ValueError) as error:
            await self._runner.cleanup()
            raise InputError(
                f"cannot listen on {self._listen} to offer pieces ({error})", advice="check [links] listen"
            ) from error
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self._runner.cleanup()

    def offer(self, content: bytes, content_type: str, extension: str) -> str:
        """The address at which the content can be fetched from now on."""
        token = f"{secrets.token_urlsafe(24)}.{extension}"
        self._offers[token] = (content, content_type)
        return f"{self._public}/pieces/{token}"

    def withdraw(self, address: str) -> None:
        """Nothing is at that address any more."""
        self._offers.pop(address.rpartition("/")[2], None)

    async def _serve(self, request: web.Request) -> web.Response:
        offered = self._offers.get(request.match_info["token"])
        if offered is None:
            raise web.HTTPNotFound
        content, content_type = offered
        return web.Response(body=content, content_type=content_type)
