"""What `run` does, for Python: one call from sources to outcomes."""

import asyncio
import os
from collections.abc import Callable, Sequence
from pathlib import Path

from mantisreed.engines.request import language_for
from mantisreed.engines.transport import HttpTransport
from mantisreed.exports.formats import chosen_formats
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.run import Event, Order, Outcome, Runner
from mantisreed.pipeline.sources import find_recordings
from mantisreed.workspace import Workspace, check_language


def transcribe(
    sources: Sequence[str | os.PathLike[str]],
    workspace: Workspace,
    *,
    engine: str | None = None,
    language: str | None = None,
    to: Sequence[str] | None = None,
    into: str | os.PathLike[str] | None = None,
    track: int | None = None,
    replace: bool = False,
    on_event: Callable[[Event], None] = lambda event: None,
) -> list[Outcome]:
    """Send recordings to an engine and write what comes back.

    Everything that can be checked is checked before anything is sent.

    Args:
        sources: files and folders.
        workspace: with the engine cards.
        engine: name of the card; None takes the one in the settings, or the only one.
        language: a BCP 47 tag; None takes the one in the settings, or lets the engine find out.
        to: names of output formats; None takes those in the settings.
        into: folder for outputs; None takes the one in the settings.
        track: which track of sound, from 1; None takes the default one.
        replace: overwrite outputs that were edited since they were written.
        on_event: called as recordings move along.

    Returns:
        One outcome for each recording, in order. A failed recording is an outcome, not an exception.

    Raises:
        InputError: a source, an option, the card or a secret is wrong; nothing was sent.
    """
    recordings = find_recordings(sources)
    card = workspace.engine(engine)
    tag = language or workspace.settings.language
    order = Order(
        card=card,
        secrets=workspace.secrets_of(card),
        language=language_for(card, check_language(tag) if tag else None),
        track=track,
    )
    folder = Path(into) if into is not None else workspace.folder / workspace.settings.into
    formats = chosen_formats(to if to is not None else workspace.settings.to)
    outputs = Outputs(folder, workspace.hidden, formats, replace=replace)
    return asyncio.run(_run(order, outputs, recordings, on_event))


async def _run(
    order: Order, outputs: Outputs, recordings: Sequence[Path], on_event: Callable[[Event], None]
) -> list[Outcome]:
    async with HttpTransport() as transport:
        return await Runner(order, outputs, transport, on_event=on_event).run(recordings)
