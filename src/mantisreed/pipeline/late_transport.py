"""The real transport, which loads while pieces are prepared, if any is to be sent."""

import asyncio
from contextlib import AsyncExitStack
from importlib import import_module
from types import TracebackType
from typing import TYPE_CHECKING, Self

from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import HttpTransport
    from mantisreed.cards.wire.websocket import Conversation


class LateTransport:
    """The real transport, loaded on a thread: it takes long to import, and pieces are prepared
    meanwhile. Where all replies are kept it is never loaded.
    """

    async def __aenter__(self) -> Self:
        self._stack = AsyncExitStack()
        self._opening: asyncio.Task[HttpTransport] | None = None
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._opening is not None:
            self._opening.cancel()
        await self._stack.aclose()

    def begin(self) -> "asyncio.Task[HttpTransport]":
        """Load it, if nobody has begun with that; gives what can be waited for."""
        if self._opening is None:
            self._opening = asyncio.create_task(self._opened())
        return self._opening

    async def ready(self) -> None:
        """Wait until it is loaded."""
        # Whoever is given up must not stop the loading, which others wait for.
        await asyncio.shield(self.begin())

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        transport = await asyncio.shield(self.begin())
        return await transport.exchange(request)

    async def converse(self, request: HttpRequest, conversation: "Conversation") -> HttpAnswer:
        """See `Transport`."""
        transport = await asyncio.shield(self.begin())
        return await transport.converse(request, conversation)

    async def _opened(self) -> "HttpTransport":
        module = await asyncio.to_thread(import_module, "mantisreed.cards.wire.transport")
        transport: HttpTransport = await self._stack.enter_async_context(module.HttpTransport())
        return transport
