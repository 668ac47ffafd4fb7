"""Listening to engines that call back: `POST /calls/TOKEN`, a token for each request, which nobody
can guess.

A call is only believed if its token is known and, where the card declares a secret, its signature
is good and new. A call that is forged, repeated, late or unknown changes nothing. What has been
called for is written out when no other process waits for it; and what nobody calls for is asked for
from time to time.
"""

import asyncio
import logging
from collections.abc import Callable
from contextlib import AsyncExitStack
from dataclasses import dataclass

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from mantisreed.cards.requests import values_of_card
from mantisreed.engines.callbacks import is_genuine
from mantisreed.engines.listening import serving
from mantisreed.errors import InputError, MantisreedError, UnreadableReplyError, reason_of
from mantisreed.jobs.gate import Time
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.records import Filter, JobRecord, RequestRecord
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.pipeline.options import TranscriptionOptions, options_of_job, stored_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.sent_jobs.collecting import Collector, Show
from mantisreed.running import interruptible, run_interruptibly
from mantisreed.secrets import Secret
from mantisreed.workspace import Workspace

_log = logging.getLogger(__name__)

_CALL_LIMIT = 60.0  # seconds for the whole body of a call
_LARGEST_CALL = 64 * 1024 * 1024  # bytes
_LOOKS_FOR_TICKET = (
    60  # seconds in which the request that a call answers should have come back itself
)
_LOOKS_FOR_SENDER = (
    30  # seconds in which whoever sent it should have ended, when the call completes a job
)
_ROUND = 60.0  # seconds between two times that all that is out is asked for


class CallbackListener:
    """Takes engines' calls, and writes out what they complete."""

    def __init__(
        self,
        workspace: Workspace,
        writer: LedgerWriter,
        collector: Collector,
        hooks: "ServeHooks",
        *,
        time: Time | None = None,
    ) -> None:
        self._workspace, self._writer, self._collector = workspace, writer, collector
        self._on_done, self._on_failure = hooks.on_done, hooks.on_failure
        moments = time or Time()
        self._clock, self._sleep = moments.clock, moments.sleep
        self._under_way: set[asyncio.Task[None]] = set()
        self._is_ending = False
        self.application = Starlette(
            routes=[Route("/calls/{token}", self.called, methods=["POST"])]
        )

    async def finish(self) -> None:
        """Wait until every call that was taken has been seen to."""
        self._is_ending = True
        await asyncio.gather(*self._under_way)
        self._is_ending = False

    async def rounds(self) -> None:
        """Ask for all that is out, again and again: calls get lost. No failure of one round keeps
        the next away.
        """
        while True:
            await self._sleep(_ROUND)
            try:
                jobs = await self._writer.perform(
                    lambda ledger: ledger.listing.jobs(Filter(states=("working",)))
                )
                for job in jobs:
                    await self._complete(job.id)
            except Exception as error:
                self._tell_failure("asking for what is out failed, and is tried again", error)

    async def called(self, request: Request) -> Response:
        """An engine calls back about the request with this token."""
        token = request.path_params["token"]
        called = await self._writer.perform(lambda ledger: _request_of(ledger, token))
        if called is None:  # before anything of the body is read
            return Response(status_code=404)
        try:
            async with asyncio.timeout(_CALL_LIMIT):
                body = await _body(request)
        except TimeoutError:
            return Response(status_code=408)
        if body is None:
            return Response(status_code=413)
        return Response(status_code=await self._answered(request, called, body))

    async def _answered(self, request: Request, called: RequestRecord, body: bytes) -> int:
        """Take a call that came whole; gives the status that says what became of it."""
        job = await self._writer.perform(lambda ledger: ledger.listing.job(called.job))
        try:
            options = options_of_job(self._workspace, job.engine, stored_options(job))
        except InputError as error:
            _log.warning("a call for %s cannot be used: %s", job.id, error)
            return 503
        if not self._is_believed(options, request, body):
            _log.warning("a call for %s was not signed as it should be", job.id)
            return 401
        call = request.headers.get("webhook-id")
        is_new = True
        if call:
            is_new = await self._writer.perform(
                lambda ledger: ledger.calls.take(f"{job.engine} {call}")
            )
        if is_new:
            task = asyncio.create_task(self._seen_to(options, called, body))
            self._under_way.add(task)
            task.add_done_callback(self._under_way.discard)
        return 204

    def _is_believed(self, options: TranscriptionOptions, request: Request, body: bytes) -> bool:
        callback = options.card.callback
        if callback is None:
            return False
        if callback.secret is None:
            return True
        values = {name: secret.reveal() for name, secret in options.secrets.items()}
        secret = callback.secret.text(values | values_of_card(options.card, values))
        return bool(secret) and is_genuine(
            Secret(str(secret)), dict(request.headers), body, self._clock()
        )

    async def _seen_to(
        self, options: TranscriptionOptions, request: RequestRecord, body: bytes
    ) -> None:
        assert options.card.callback is not None
        try:
            brings_reply = options.card.callback.brings == "reply"
            if not (brings_reply and await self._is_delivered(options, request, body)):
                await self._asked_for(options, request)
            for job in await self._writer.perform(
                lambda ledger: ledger.listing.jobs_with(request.key)
            ):
                # Whoever sent it is often still at it: the call came before their own answer. Most
                # end soon.
                looks = 0
                while (
                    not await self._complete(job)
                    and looks < _LOOKS_FOR_SENDER
                    and not self._is_ending
                ):
                    looks += 1
                    await self._sleep(1.0)
        except MantisreedError as error:
            _log.warning("a call for %s came to nothing: %s", request.job, error)
        except Exception as error:
            self._tell_failure(f"a call for {request.job} came to nothing", error)

    async def _is_delivered(
        self, options: TranscriptionOptions, request: RequestRecord, body: bytes
    ) -> bool:
        """Take a reply that was brought; False when it is damaged, and is better asked for."""
        try:
            await self._collector.delivered(options, request, body)
        except UnreadableReplyError as error:
            _log.warning(
                "the reply that a call for %s brought cannot be read: %s", request.job, error
            )
            return False
        return True

    async def _asked_for(self, options: TranscriptionOptions, request: RequestRecord) -> None:
        """Ask for a request; one that is still being sent a moment later, when its id is known."""
        for _ in range(_LOOKS_FOR_TICKET):
            now = await self._writer.perform(lambda ledger: ledger.requests.as_it_is(request))
            if now.state == "working":
                await self._collector.asked(options, now)
                return
            if now.state != "sending" or self._is_ending:
                return
            await self._sleep(1.0)

    async def _complete(self, job: str) -> bool:
        """Write a job out unless another process is at it; whether none was."""
        record = await self._writer.perform(lambda ledger: _job_left_to_us(ledger, job))
        if record is None:
            return False
        if record.state == "working":
            outcome = await self._collector.collected(record, wait=False)
            if outcome.state != "working":
                self._on_done(outcome)
        return True

    def _tell_failure(self, what: str, error: Exception) -> None:
        """Something failed that must not end the server: it is logged with its traceback, and
        told.
        """
        _log.error("%s", what, exc_info=error)
        self._on_failure(f"{what} ({type(error).__name__}: {reason_of(error)})")


def _request_of(ledger: Ledger, token: str) -> RequestRecord | None:
    row = ledger.calls.request_of(token)
    if row is None:
        return None
    return ledger.listing.request_called(row)


def _job_left_to_us(ledger: Ledger, job: str) -> JobRecord | None:
    """A job that no other process has under way."""
    ledger.recover()
    if ledger.jobs.is_another_process_at(job):
        return None
    return ledger.listing.job(job)


@dataclass(frozen=True, slots=True)
class ServeHooks:
    """What a server tells.

    Attributes:
        on_ready: called with the address, once calls are taken.
        on_done: called with each job that was completed.
        on_failure: called with what failed and does not end the server.
        on_event: called as jobs move along.
    """

    on_ready: Callable[[str], None]
    on_done: Callable[[Outcome], None]
    on_failure: Callable[[str], None] = lambda what: None
    on_event: Show = lambda event: None


def serve_callbacks(workspace: Workspace, hooks: ServeHooks) -> None:
    """Listen until the process is asked to stop.

    Args:
        workspace: with `[callbacks]`, the engine cards and the ledger.
        hooks: who is told what.

    Raises:
        InputError: the settings have no `[callbacks]`, or the port is taken.
        TrustError: they are not trusted with what a card that is called back uses.
    """
    for name, card in workspace.engines.items():
        if card.callback is not None:
            workspace.require_trust_in(name)
    if workspace.callbacks is None:
        raise InputError(
            "the settings do not say how engines reach this machine",
            advice='set [callbacks] public = "https://..." in the settings',
        )
    run_interruptibly(_serve(workspace, workspace.callbacks.listen, hooks))


async def _serve(workspace: Workspace, listen: str, hooks: ServeHooks) -> None:
    async with AsyncExitStack() as stack:
        transport = await stack.enter_async_context(LateTransport())
        writer = LedgerWriter(lambda: open_ledger(workspace))
        stack.callback(writer.close)
        collector = Collector(workspace, transport, writer=writer, on_event=hooks.on_event)
        listener = CallbackListener(workspace, writer, collector, hooks)
        await writer.perform(lambda ledger: ledger.recover())
        stack.push_async_callback(listener.finish)
        stopping = asyncio.Event()
        stack.enter_context(interruptible(stopping.set))
        await stack.enter_async_context(
            serving(listener.application, listen, key="[callbacks] listen")
        )
        asking = asyncio.create_task(listener.rounds())
        hooks.on_ready(listen)
        try:
            await stopping.wait()
        finally:
            asking.cancel()
            await asyncio.gather(asking, return_exceptions=True)


async def _body(request: Request) -> bytes | None:
    """The whole body; None when it is larger than any reply."""
    body = bytearray()
    async for block in request.stream():
        body += block
        if len(body) > _LARGEST_CALL:
            return None
    return bytes(body)
