"""What `run` does, for Python: one call from sources to outcomes."""

import asyncio
import os
from collections.abc import Callable, Sequence
from contextlib import AsyncExitStack
from importlib import import_module
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Self

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.engines.answers import HttpAnswer
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import HttpRequest, Wishes, language_for, wants_link
from mantisreed.errors import InputError
from mantisreed.exports.formats import chosen_formats
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.pieces import PieceOptions
from mantisreed.pipeline.run import Event, Order, Outcome, Runner
from mantisreed.pipeline.sources import Source, find_recordings
from mantisreed.workspace import Workspace, check_language

if TYPE_CHECKING:
    from mantisreed.engines.transport import HttpTransport


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
    replace: bool = False,
    afresh: bool = False,
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
        replace: overwrite outputs that were edited since they were written.
        afresh: ask the engine again also for what it has answered already.
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
    )
    check_links(workspace, order.card, recordings)
    folder = Path(into) if into is not None else workspace.folder / workspace.settings.into
    formats = chosen_formats(to if to is not None else workspace.settings.to)
    outputs = Outputs(folder, workspace.hidden, formats, replace=replace)
    return asyncio.run(_run(workspace, order, outputs, recordings, workers or DecodingWorkers(), on_event))


def order_for(
    workspace: Workspace,
    *,
    engine: str | None = None,
    language: str | None = None,
    translate_to: str | None = None,
    hints: Sequence[str] | None = None,
    pieces: PieceOptions | None = None,
    afresh: bool = False,
) -> Order:
    """What `transcribe` asks of an engine, with settings where an option is None. Raises as `transcribe` does."""
    card = workspace.engine(engine, translating=translate_to is not None)
    tag = language or workspace.settings.language
    spoken = check_language(tag) if tag else None
    target = check_language(translate_to) if translate_to else None
    return Order(
        card=card,
        secrets=workspace.secrets_of(card),
        language=spoken,
        target=target,
        wishes=Wishes(
            language_for(card, spoken),
            language_for(card, target),
            tuple(workspace.settings.hints if hints is None else hints),
        ),
        pieces=pieces or PieceOptions(),
        afresh=afresh,
        tries=workspace.settings.tries,
    )


def check_links(workspace: Workspace, card: EngineCard, recordings: Sequence[Source]) -> None:
    """See that an engine that wants links can be given one to each of these recordings.

    Raises:
        InputError: one is a file, and the settings do not say how this machine is reached.
    """
    if wants_link(card) and workspace.links is None and any(source.link is None for source in recordings):
        raise InputError(
            f"engine {card.name} wants a link to the audio, and this machine has no public address",
            advice='give an http(s) link as the source, or set [links] public = "https://..." in the settings',
        )


async def _run(
    workspace: Workspace,
    order: Order,
    outputs: Outputs,
    recordings: Sequence[Source],
    workers: DecodingWorkers,
    on_event: Callable[[Event], None],
) -> list[Outcome]:
    async with AsyncExitStack() as stack:
        transport = await stack.enter_async_context(_LateTransport())
        stack.enter_context(workers)
        links = None
        if workspace.links and wants_link(order.card) and any(source.link is None for source in recordings):
            from mantisreed.engines.links import LinkServer

            links = await stack.enter_async_context(LinkServer(workspace.links.listen, workspace.links.public))
        runner = Runner(order, outputs, transport, workspace.hidden, workers=workers, links=links, on_event=on_event)
        return await runner.run(recordings)


class _LateTransport:
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

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        transport = await asyncio.shield(self._opening)
        return await transport.exchange(request)

    async def _opened(self) -> "HttpTransport":
        module = await asyncio.to_thread(import_module, "mantisreed.engines.transport")
        transport: HttpTransport = await self._stack.enter_async_context(module.HttpTransport())
        return transport
