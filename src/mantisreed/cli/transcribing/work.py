"""`mantisreed work`: take recordings from the queue, on any number of machines."""

from contextlib import closing
from dataclasses import dataclass

from mantisreed.cli.board import Board
from mantisreed.cli.console import Console
from mantisreed.cli.transcribing.watch import Teller
from mantisreed.jobs.ledger import open_ledger
from mantisreed.units import count_of, duration_given
from mantisreed.working.worker import WorkHooks, WorkOptions, work
from mantisreed.workspace import Workspace, open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `work` is asked for; its arguments tell the same."""

    config: str | None = None
    engines: str | None = None
    max_recordings: int | None = None
    until_idle: str | None = None
    drain: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Work until asked to stop; a line for each recording.

    Returns:
        1 when some failed, else 0.
    """
    workspace = open_workspace(asked.config)
    if asked.drain:
        return _drain(console, workspace)
    named = [name.strip() for name in (asked.engines or "").split(",") if name.strip()]
    options = WorkOptions(
        engines=named,
        most=asked.max_recordings,
        until_idle=duration_given(asked.until_idle, "--until-idle"),
    )
    console.note(f"working on {', '.join(named or sorted(workspace.engines))}; Ctrl-C ends it")
    with Board(console) as board:
        teller = Teller(console, board)
        work(workspace, options, WorkHooks(teller.tell, board.show, board.note))
    console.note(f"{teller.done} done, {teller.failed} failed")
    return 1 if teller.failed else 0


def _drain(console: Console, workspace: Workspace) -> int:
    with closing(open_ledger(workspace)) as ledger:
        count = ledger.end_workers()
    console.note(f"{count_of(count, 'worker')} on this machine asked to end")
    return 0
