"""What `run` does, for Python: one call from sources to outcomes."""

import asyncio
import os
import signal
from collections.abc import Callable, Coroutine, Iterator, Mapping, Sequence
from contextlib import AsyncExitStack, contextmanager
from decimal import Decimal
from importlib import import_module
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self, TypeVar

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.engines.answers import HttpAnswer
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import HttpRequest, wants_link
from mantisreed.errors import InputError
from mantisreed.exports.formats import chosen_formats
from mantisreed.exports.script import WriteOptions
from mantisreed.pipeline.orders import Order, order_for
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.pieces import PieceOptions
from mantisreed.pipeline.run import Event, Outcome, Runner
from mantisreed.pipeline.sources import Source, find_recordings
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.engines.transport import HttpTransport
    from mantisreed.jobs.ledger import Ledger


T = TypeVar("T")


def transcribe(
    sources: Sequence[str | os.PathLike[str]],
    workspace: Workspace,
    *,
    engine: str | None = None,
    language: str | None = None,
    translate_to: str | None = None,
    hints: Sequence[str] | None = None,
    to: Sequence[str] | None = None,
    into: str | os.PathLike[str] | None = None,
    pieces: PieceOptions | None = None,
    writing: WriteOptions | None = None,
    overwrite: bool = False,
    afresh: bool = False,
    spend_limit: Decimal | None = None,
    wait: bool = True,
    workers: DecodingWorkers | None = None,
    on_event: Callable[[Event], None] = lambda event: None,
) -> list[Outcome]:
    """Send recordings to an engine and write what comes back.

    Everything that can be checked is checked before anything is sent.

    Args:
        sources: files, folders and http(s) links.
        workspace: with the engine cards.
        engine: name of the card, or `NAME:PROFILE`; None takes the one in the settings, or the only one.
        language: a BCP 47 tag; None takes the one in the settings, or lets the engine find out.
        translate_to: the tag of another language to answer in, where the card declares translating.
        hints: names and rare words to expect; None takes those in the settings.
        to: names of output formats; None takes those in the settings.
        into: folder for outputs; None takes the one in the settings.
        pieces: which sound of the recordings is sent and how it is cut; None leaves it all to the engine's card.
        writing: how the formats are written; None does as the settings say.
        overwrite: also outputs that were edited since they were written.
        afresh: ask the engine again also for what it has answered already.
        spend_limit: what these recordings may cost, with what they have cost before, in the card's currency.
        wait: until all replies are there; otherwise only send, and leave the rest to `collect`.
        workers: where long recordings are decoded, if some have been started already.
        on_event: called as recordings move along.

    Returns:
        One outcome for each recording, in order. A failed recording is an outcome, not an exception.

    Raises:
        InputError: a source, an option, the card or a secret is wrong; nothing was sent.
    """
    recordings = find_recordings(sources)
    order = order_for(
        workspace,
        engine=engine,
        language=language,
        translate_to=translate_to,
        hints=hints,
        pieces=pieces,
        afresh=afresh,
        spend_limit=spend_limit,
        wait=wait,
    )
    check_links(workspace, order.card, recordings, wait=wait)
    folder = Path(into) if into is not None else workspace.folder / workspace.settings.into
    formats = chosen_formats(to if to is not None else workspace.settings.to)
    options = writing or WriteOptions(rules=workspace.layout(), wording=workspace.wording())
    outputs = Outputs(folder, workspace.hidden, formats, options=options, overwrite=overwrite)
    return run_order(workspace, order, outputs, recordings, workers=workers, on_event=on_event)


def run_order(
    workspace: Workspace,
    order: Order,
    outputs: Outputs,
    recordings: Sequence[Source],
    *,
    expected: Mapping[str, str] | None = None,
    workers: DecodingWorkers | None = None,
    on_event: Callable[[Event], None] = lambda event: None,
) -> list[Outcome]:
    """The outcome of each recording; `expected` holds digests that recordings must have, by their sources' keys.

    The first interruption by the user lets what is on its way come in, the second ends at once.
    """

    async def work() -> list[Outcome]:
        async with AsyncExitStack() as stack:
            transport = await stack.enter_async_context(LateTransport())
            decoding = stack.enter_context(workers or DecodingWorkers())
            links = None
            if workspace.links and wants_link(order.card) and any(source.link is None for source in recordings):
                from mantisreed.engines.links import LinkServer

                links = await stack.enter_async_context(LinkServer(workspace.links.listen, workspace.links.public))
            runner = Runner(
                order,
                outputs,
                transport,
                lambda: ledger_of(workspace),
                hidden=workspace.hidden,
                workers=decoding,
                links=links,
                callbacks=f"{workspace.callbacks.public.rstrip('/')}/calls" if workspace.callbacks else None,
                expected=expected,
                ready=transport.ready,
                on_event=on_event,
            )
            stack.enter_context(interruptible(runner.interrupt))
            return await runner.run(recordings)

    return run_interruptibly(work())


def run_interruptibly(work: Coroutine[Any, Any, T]) -> T:
    """What the work gives; ended by `interruptible`, it ends as Ctrl-C does elsewhere."""
    try:
        return asyncio.run(work)
    except asyncio.CancelledError as error:
        raise KeyboardInterrupt from error


def ledger_of(workspace: Workspace) -> "Ledger":
    """The workspace's ledger, opened. It takes long to import; pieces are prepared meanwhile."""
    from mantisreed.jobs.ledger import open_ledger

    return open_ledger(workspace)


@contextmanager
def interruptible(interrupt: Callable[[], None]) -> Iterator[None]:
    """Within it, the first Ctrl-C (or SIGTERM) calls `interrupt`, and the next one ends the running task."""
    task, loop, times = asyncio.current_task(), asyncio.get_running_loop(), 0
    assert task is not None

    def interrupted() -> None:
        nonlocal times
        times += 1
        if times == 1:
            interrupt()
        else:
            task.cancel()

    try:
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, interrupted)
    except (NotImplementedError, RuntimeError, ValueError):
        pass  # not the main thread, or a system without: Ctrl-C ends everything at once
    yield


def check_links(workspace: Workspace, card: EngineCard, recordings: Sequence[Source], *, wait: bool = True) -> None:
    """See that an engine that wants links can be given one to each of these recordings.

    Raises:
        InputError: one is a file, and the settings do not say how this machine is reached, or we do not wait.
    """
    if not wants_link(card) or all(source.link is not None for source in recordings):
        return
    if not wait:
        raise InputError(
            f"engine {card.name} fetches each piece from this machine, so that somebody has to wait for it",
            advice="`mantisreed run` does, or give http(s) links as sources",
        )
    if workspace.links is None:
        raise InputError(
            f"engine {card.name} wants a link to the audio, and this machine has no public address",
            advice='give an http(s) link as the source, or set [links] public = "https://..." in the settings',
        )


class LateTransport:
    """The real transport, loaded on a thread: it takes long to import, and pieces are prepared meanwhile."""

    async def __aenter__(self) -> Self:
        self._stack = AsyncExitStack()
        self._opening = asyncio.create_task(self._opened())
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._opening.cancel()
        await self._stack.aclose()

    async def ready(self) -> None:
        """Wait until it is loaded."""
        await asyncio.shield(self._opening)

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        transport = await asyncio.shield(self._opening)
        return await transport.exchange(request)

    async def _opened(self) -> "HttpTransport":
        module = await asyncio.to_thread(import_module, "mantisreed.engines.transport")
        transport: HttpTransport = await self._stack.enter_async_context(module.HttpTransport())
        return transport
