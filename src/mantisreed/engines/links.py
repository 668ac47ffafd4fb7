"""Offering a piece at a one-time address, for engines that fetch the audio themselves."""

import secrets
from contextlib import AsyncExitStack
from types import TracebackType
from typing import Self

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from mantisreed.engines.listening import serving


class LinkOffers:
    """What is offered, each at an address that nobody can guess, until it is withdrawn; served by
    any application.
    """

    def __init__(self, public: str) -> None:
        """Args:
        public: the address under which others reach the application, such as
        `https://files.marsh.example`.
        """
        self._public = public.rstrip("/")
        self._offers: dict[str, tuple[bytes, str]] = {}
        self.route = Route("/pieces/{token}", self._serve, methods=["GET"])

    def offer(self, content: bytes, content_type: str, extension: str) -> str:
        """The address at which the content can be fetched from now on."""
        # With an ending, as some engines choose their decoder by it.
        token = f"{secrets.token_urlsafe(24)}.{extension}"
        self._offers[token] = (content, content_type)
        return f"{self._public}/pieces/{token}"

    def withdraw(self, address: str) -> None:
        """Nothing is at that address any more."""
        self._offers.pop(address.rpartition("/")[2], None)

    async def _serve(self, request: Request) -> Response:
        offered = self._offers.get(request.path_params["token"])
        if offered is None:
            return Response(status_code=404)
        content, content_type = offered
        return Response(content, media_type=content_type)


class LinkServer(LinkOffers):
    """Serves what is offered by itself. Used as an asynchronous context manager."""

    def __init__(self, listen: str, public: str) -> None:
        """Args:
        listen: `HOST:PORT` to listen on.
        public: the address under which others reach that port.
        """
        super().__init__(public)
        self._listen = listen
        self._stack = AsyncExitStack()

    async def __aenter__(self) -> Self:
        application = Starlette(routes=[self.route])
        await self._stack.enter_async_context(
            serving(application, self._listen, key="[recording_urls] listen")
        )
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self._stack.aclose()
