"""`mantisreed retry`: resume or retry jobs, with the options that they were sent with."""

from collections.abc import Sequence

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_outcomes
from mantisreed.cli.progress import Progress
from mantisreed.pipeline.collecting import retry
from mantisreed.units import money_given
from mantisreed.workspace import open_workspace


def run(
    console: Console,
    *,
    jobs: Sequence[str],
    config: str | None = None,
    spend_limit: str | None = None,
    afresh: bool = False,
    as_json: bool = False,
    report: str | None = None,
) -> int:
    """Send what is missing and wait for it; finished pieces are never paid for twice."""
    workspace = open_workspace(config)
    with Progress(console) as progress:
        limit = money_given(spend_limit, "--spend-limit")
        outcomes = retry(workspace, jobs, afresh=afresh, spend_limit=limit, on_event=progress.show)
    show_outcomes(console, outcomes, as_json=as_json, report=report)
    return exit_code(outcomes)
