"""`mantisreed retry`: resume or retry jobs, with the options that they were sent with."""

from collections.abc import Sequence
from dataclasses import dataclass

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_outcomes
from mantisreed.cli.progress import ProgressDisplay
from mantisreed.pipeline.sent_jobs.retrying import retry
from mantisreed.units import money_given
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `retry` is asked for; its arguments tell the same."""

    jobs: Sequence[str]
    config: str | None = None
    spend_limit: str | None = None
    afresh: bool = False
    as_json: bool = False
    report: str | None = None


def run(console: Console, asked: Arguments) -> int:
    """Send what is missing and wait for it; finished pieces are never paid for twice."""
    workspace = open_workspace(asked.config)
    with ProgressDisplay(console) as progress:
        limit = money_given(asked.spend_limit, "--spend-limit")
        outcomes = retry(
            workspace, asked.jobs, afresh=asked.afresh, spend_limit=limit, on_event=progress.show
        )
    show_outcomes(console, outcomes, as_json=asked.as_json, report=asked.report)
    return exit_code(outcomes)
