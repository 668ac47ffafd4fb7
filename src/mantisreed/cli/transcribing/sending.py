"""Sending recordings to an engine, with progress shown."""

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.cli.console import Console
from mantisreed.cli.progress import ProgressDisplay
from mantisreed.errors import InputError
from mantisreed.pipeline.open_files import fitted
from mantisreed.pipeline.options import RunOptions
from mantisreed.pipeline.options_given import run_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.transcribe import transcribe
from mantisreed.sources.recordings import Source
from mantisreed.workspace import Workspace, open_workspace


def send(
    console: Console,
    sources: Sequence[str | Source],
    given: Mapping[str, Any],
    *,
    wait: bool,
    workers: DecodingWorkers,
    on_outcome: Callable[[Outcome], None] | None,
) -> list[Outcome]:
    """What became of recordings that were sent as the arguments of `run` say."""
    workspace = open_workspace(given.get("config"))
    options = run_options(workspace, given, wait=wait)
    return transcribed(console, sources, workspace, options, workers=workers, on_outcome=on_outcome)


def transcribed(
    console: Console,
    sources: Sequence[str | Source],
    workspace: Workspace,
    options: RunOptions,
    *,
    workers: DecodingWorkers | None = None,
    on_outcome: Callable[[Outcome], None] | None = None,
) -> list[Outcome]:
    """What became of recordings, with progress shown."""
    _warn(console, workspace, options.engine)
    with ProgressDisplay(console) as progress:
        return transcribe(
            sources,
            workspace,
            options,
            workers=workers,
            on_event=progress.show,
            on_outcome=on_outcome or (lambda outcome: None),
        )


def _warn(console: Console, workspace: Workspace, engine: str | None) -> None:
    """Say what is not as it should be with the engine; rows of a table may name others."""
    try:
        card = workspace.engine(engine)
    except InputError:
        return  # whoever needs it tells
    for source in workspace.open_secrets(card):
        console.note(f"warning: others on this machine can read {source}; chmod 600 closes it")
    told = fitted(card)[1]
    if told:
        console.note(f"warning: {told}")
