"""What follows from HTTP for all routes alike: `HEAD` where there is `GET`, and `Allow`."""

import asyncio
from itertools import chain

from starlette.routing import BaseRoute, Match, Route
from starlette.types import ASGIApp, Message, Receive, Scope, Send


class Heads:
    """An application that answers `HEAD` as `GET` without the body (RFC 9110, 9.3.2), unless a
    route of its own does.
    """

    def __init__(self, app: ASGIApp, routes: list[BaseRoute]) -> None:
        self._application, self._routes = app, routes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """See ASGI."""
        is_head = scope["type"] == "http" and scope["method"] == "HEAD"
        if not is_head or "HEAD" in _methods_at(self._routes, scope):
            await self._application(scope, receive, send)
            return
        over = asyncio.Event()

        async def without_body(message: Message) -> None:
            if over.is_set():
                return
            if message["type"] == "http.response.body":
                # The head is out; what comes of the body is not sent.
                over.set()
                message = {"type": "http.response.body", "body": b""}
            await send(message)

        # A stream of events would never end by itself.
        answering = asyncio.ensure_future(
            self._application({**scope, "method": "GET"}, receive, without_body)
        )
        ending = asyncio.ensure_future(over.wait())
        await asyncio.wait((answering, ending), return_when="FIRST_COMPLETED")
        ending.cancel()
        if not answering.done():
            answering.cancel()
        await asyncio.gather(answering, ending, return_exceptions=True)
        if not over.is_set() and answering.done() and not answering.cancelled():
            answering.result()


def allowed_at(routes: list[BaseRoute], scope: Scope) -> str:
    """The methods that there are at the path of a request, as `Allow` has them."""
    methods = _methods_at(routes, scope)
    if "GET" in methods:
        methods |= {"HEAD"}
    return ", ".join(sorted(methods))


def _methods_at(routes: list[BaseRoute], scope: Scope) -> set[str]:
    return set(
        chain.from_iterable(
            route.methods or ()
            for route in routes
            if isinstance(route, Route) and route.matches(scope)[0] is not Match.NONE
        )
    )
