"""`mantisreed serve`: an HTTP service with a board, or a listener to engines that call back."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from mantisreed.cli.console import Console
from mantisreed.cli.setup.arguments import LISTEN
from mantisreed.errors import InputError
from mantisreed.serving.proxies import network_given, prefix_given
from mantisreed.units import duration_given, size_given
from mantisreed.workspace import Workspace, open_workspace

if TYPE_CHECKING:
    from mantisreed.pipeline.outcomes import Outcome


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `serve` is asked for; its arguments tell the same."""

    listen: str | None = None
    callbacks: bool = False
    config: str | None = None
    engine: str | None = None
    allow: Sequence[str] = ()
    allow_private_links: bool = False
    cors: Sequence[str] = ()
    proxy: Sequence[str] = ()
    root_path: str = ""
    shutdown_timeout: str | None = None
    max_size: str | None = None
    max_length: str | None = None
    max_stored: str | None = None
    queue: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Serve until stopped. The first line on stdout says where."""
    workspace = open_workspace(asked.config)
    if asked.callbacks:
        if asked.listen is not None:
            raise InputError("[callbacks] listen in the settings says where", where="--listen")
        if asked.queue:
            raise InputError("workers do not take the calls of engines", where="--queue")
        return _serve_callbacks(console, workspace)
    return _serve(console, workspace, asked)


def _serve(console: Console, workspace: Workspace, asked: Arguments) -> int:
    # The web framework takes long to import, and not everybody who listens needs it.
    from mantisreed.serving.server import serve
    from mantisreed.serving.service import ServeOptions

    folders = tuple(map(Path, asked.allow))
    for folder in folders:
        if not folder.is_dir():
            raise InputError("no such folder", where=f"--allow {folder}")
    largest = size_given(asked.max_size, "--max-size")
    waits = duration_given(asked.shutdown_timeout, "--shutdown-timeout")
    engine = None
    if asked.queue and workspace.storage is None:
        console.note(
            "mantisreed: without [storage] url in the settings, only workers in this folder can do "
            "these jobs"
        )
    if asked.engine is not None:
        engine = workspace.engine(asked.engine).name
    usual = ServeOptions()
    options = ServeOptions(
        listen=asked.listen or LISTEN,
        engine=engine,
        allowed=folders,
        takes_private_links=asked.allow_private_links,
        origins=tuple(asked.cors),
        max_bytes=usual.max_bytes if largest is None else largest,
        max_seconds=duration_given(asked.max_length, "--max-length"),
        max_stored=size_given(asked.max_stored, "--max-stored"),
        shutdown_timeout=usual.shutdown_timeout if waits is None else waits,
        keys=workspace.call_keys(),
        proxies=tuple(map(network_given, asked.proxy)),
        root_path=prefix_given(asked.root_path),
        is_queueing=asked.queue,
    )
    serve(
        workspace,
        options,
        on_ready=lambda address: console.result(
            f"listening on {address}; the board is {address}{options.root_path}/"
        ),
        on_failure=lambda failure: console.note(f"mantisreed: {failure}"),
    )
    return 0


def _serve_callbacks(console: Console, workspace: Workspace) -> int:
    """Listen to engines; a line for each job that is done."""
    from mantisreed.pipeline.sent_jobs.callbacks import ServeHooks, serve_callbacks

    def done(outcome: "Outcome") -> None:
        if outcome.job:
            job = outcome.job.id
        else:
            job = "-"
        console.result(f"{job}  {outcome.recording.label}: {outcome.state}")
        if outcome.error:
            console.problem(outcome.error, outcome.recording.label)

    hooks = ServeHooks(
        on_ready=lambda listen: console.result(f"listening on http://{listen}"),
        on_done=done,
        on_failure=lambda what: console.note(f"mantisreed: {what}"),
    )
    serve_callbacks(workspace, hooks)
    return 0
