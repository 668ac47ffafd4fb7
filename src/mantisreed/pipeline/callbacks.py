"""Listening to engines that call back: `POST /calls/TOKEN`, a token for each request, which nobody can guess.

A call is only believed if its token is known and, where the card declares a secret, its signature is good and new. A
call that is forged, repeated, late or unknown changes nothing. What has been called for is written out when no other
process waits for it; and what nobody calls for is asked for from time to time.
"""

import asyncio
import logging
import time
from collections.abc import Awaitable, Callable
from contextlib import AsyncExitStack

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from mantisreed.engines.callbacks import is_genuine
from mantisreed.engines.placeholders import filled
from mantisreed.engines.secrets import Secret
from mantisreed.errors import InputError, MantisreedError
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.records import Filter, JobRecord, PieceRecord
from mantisreed.jobs.writing import LedgerWriter
from mantisreed.pipeline.collecting import Collector, Show
from mantisreed.pipeline.orders import Order, kept_order, ordered
from mantisreed.pipeline.run import Outcome
from mantisreed.pipeline.transcribe import LateTransport
from mantisreed.workspace import Workspace

_log = logging.getLogger(__name__)

_LARGEST_CALL = 64 * 1024 * 1024  # bytes
_LOOKS_FOR_TICKET = 60  # seconds in which the request that a call answers should have come back itself
_ROUND = 60.0  # seconds between two times that all that is out is asked for


class CallbackListener:
    """Takes engines' calls, and writes out what they complete."""

    def __init__(
        self,
        workspace: Workspace,
        writer: LedgerWriter,
        collector: Collector,
        *,
        on_done: Callable[[Outcome], None] = lambda outcome: None,
        clock: Callable[[], float] = time.time,
        sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
    ) -> None:
        self._workspace, self._writer, self._collector = workspace, writer, collector
        self._on_done, self._clock, self._sleep = on_done, clock, sleep
        self._under_way: set[asyncio.Task[None]] = set()
        self.application = Starlette(routes=[Route("/calls/{token}", self._called, methods=["POST"])])

    async def finish(self) -> None:
        """Wait until every call that was taken has been seen to."""
        await asyncio.gather(*self._under_way)

    async def rounds(self) -> None:
        """Ask for all that is out, again and again: calls get lost."""
        while True:
            await self._sleep(_ROUND)
            jobs = await self._writer.noted(lambda ledger: ledger.listing.jobs(Filter(states=("working",))))
            for job in jobs:
                await self._complete(job.id)

    async def _called(self, request: Request) -> Response:
        token = request.path_params["token"]
        piece = await self._writer.noted(lambda ledger: ledger.called(token))
        body = await _body(request)
        if piece is None or body is None:
            return Response(status_code=404 if piece is None else 413)
        job = await self._writer.noted(lambda ledger: ledger.listing.job(piece.job))
        try:
            order = kept_order(self._workspace, job.engine, ordered(job))
        except InputError as error:
            _log.warning("a call for %s cannot be used: %s", job.id, error)
            return Response(status_code=503)
        if not self._is_believed(order, request, body):
            _log.warning("a call for %s was not signed as it should be", job.id)
            return Response(status_code=401)
        call = request.headers.get("webhook-id")
        if call and not await self._writer.noted(lambda ledger: ledger.note_call(f"{job.engine} {call}")):
            return Response(status_code=204)
        task = asyncio.create_task(self._seen_to(order, job, piece, body))
        self._under_way.add(task)
        task.add_done_callback(self._under_way.discard)
        return Response(status_code=204)

    def _is_believed(self, order: Order, request: Request, body: bytes) -> bool:
        callback = order.card.callback
        if callback is None:
            return False
        if callback.secret is None:
            return True
        values = {name: secret.reveal() for name, secret in order.secrets.items()}
        secret = filled(callback.secret, {**order.card.values, **values})
        return bool(secret) and is_genuine(Secret(str(secret)), dict(request.headers), body, self._clock())

    async def _seen_to(self, order: Order, job: JobRecord, piece: PieceRecord, body: bytes) -> None:
        assert order.card.callback is not None
        try:
            if order.card.callback.brings == "reply":
                await self._collector.brought(order, piece, body)
            else:
                await self._asked_for(order, piece)
            await self._complete(job.id)
        except MantisreedError as error:
            _log.warning("a call for %s came to nothing: %s", job.id, error)

    async def _asked_for(self, order: Order, piece: PieceRecord) -> None:
        """Ask for a piece; one that is still being sent a moment later, when its id is known."""
        for _ in range(_LOOKS_FOR_TICKET):
            now = await self._writer.noted(lambda ledger: ledger.piece(piece.id))
            if now.state == "working":
                await self._collector.asked(order, now)
                return
            if now.state != "sending":
                return
            await self._sleep(1.0)

    async def _complete(self, job: str) -> None:
        """Write a job out if nobody else does."""
        if not await self._writer.noted(lambda ledger: ledger.is_left(job)):
            return
        record = await self._writer.noted(lambda ledger: ledger.listing.job(job))
        if record.state == "working":
            outcome = await self._collector.collected(record, wait=False)
            if outcome.state != "working":
                self._on_done(outcome)


def serve_callbacks(
    workspace: Workspace,
    *,
    on_ready: Callable[[str], None],
    on_done: Callable[[Outcome], None],
    on_event: Show = lambda event: None,
) -> None:
    """Listen until the process is asked to stop.

    Args:
        workspace: with `[callbacks]`, the engine cards and the ledger.
        on_ready: called with the address, once calls are taken.
        on_done: called with each job that was completed.
        on_event: called as jobs move along.

    Raises:
        InputError: the settings have no `[callbacks]`, or the port is taken.
    """
    if workspace.callbacks is None:
        raise InputError(
            "the settings do not say how engines reach this machine",
            advice='set [callbacks] public = "https://..." in the settings',
        )
    asyncio.run(_serve(workspace, workspace.callbacks.listen, on_ready, on_done, on_event))


async def _serve(
    workspace: Workspace,
    listen: str,
    on_ready: Callable[[str], None],
    on_done: Callable[[Outcome], None],
    on_event: Show,
) -> None:
    host, _, port = listen.rpartition(":")
    async with AsyncExitStack() as stack:
        transport = await stack.enter_async_context(LateTransport())
        writer = LedgerWriter(lambda: open_ledger(workspace))
        stack.callback(writer.close)
        collector = Collector(workspace, transport, writer=writer, on_event=on_event)
        listener = CallbackListener(workspace, writer, collector, on_done=on_done)
        await writer.noted(lambda ledger: ledger.settle())
        config = uvicorn.Config(
            listener.application,
            host or "0.0.0.0",  # noqa: S104 - the user's choice
            int(port),
            log_level="error",
            access_log=False,
            lifespan="off",
        )
        server = uvicorn.Server(config)
        serving = asyncio.create_task(_served(server, listen))
        asking = asyncio.create_task(listener.rounds())
        try:
            while not server.started and not serving.done():
                await asyncio.sleep(0.01)
            if not serving.done():
                on_ready(listen)
            await serving
        finally:
            asking.cancel()
            await asyncio.gather(asking, return_exceptions=True)
            await listener.finish()


async def _served(server: uvicorn.Server, listen: str) -> None:
    try:
        await server.serve()
    except SystemExit as error:  # what it does when the port is taken
        raise InputError(f"cannot listen on {listen}", advice="check [callbacks] listen") from error


async def _body(request: Request) -> bytes | None:
    """The whole body; None when it is larger than any reply."""
    body = bytearray()
    async for block in request.stream():
        body += block
        if len(body) > _LARGEST_CALL:
            return None
    return bytes(body)
