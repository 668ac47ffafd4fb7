"""`mantisreed collect`: ask for what was sent, take what is ready, and write it out."""

from collections.abc import Sequence
from dataclasses import dataclass

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_outcomes
from mantisreed.cli.progress import ProgressDisplay
from mantisreed.pipeline.sent_jobs.collecting import collect
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `collect` is asked for; its arguments tell the same."""

    jobs: Sequence[str]
    config: str | None = None
    wait: bool = False
    overwrite: bool = False
    as_json: bool = False
    report: str | None = None


def run(console: Console, asked: Arguments) -> int:
    """Take what is ready. 0 when all of it was, 3 when some is still under way, else 1."""
    workspace = open_workspace(asked.config)
    with ProgressDisplay(console) as progress:
        outcomes = collect(
            workspace,
            asked.jobs,
            wait=asked.wait,
            overwrite=asked.overwrite,
            on_event=progress.show,
        )
    show_outcomes(console, outcomes, as_json=asked.as_json, report=asked.report)
    return exit_code(outcomes)
