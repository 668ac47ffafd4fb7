"""`mantisreed retry`: resume or retry jobs, with the options that they were sent with."""

import argparse

from mantisreed.cli.arguments import add_config, add_jobs, add_report
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

EXAMPLES = """\
examples:
  mantisreed retry
  mantisreed retry 3fa9 --report retried.csv
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `retry` takes."""
    parser.epilog = EXAMPLES
    add_jobs(parser, "all that failed, wait or are unconfirmed")
    add_config(parser)
    parser.add_argument(
        "--spend-limit",
        metavar="AMOUNT",
        help="Let each run cost this in all, in place of its own limit",
    )
    parser.add_argument(
        "--afresh", action="store_true", help="ignore kept replies: send, and pay, again"
    )
    add_report(parser)


def run(
    console: Console,
    *,
    jobs: "Sequence[str]",
    config: str | None = None,
    spend_limit: str | None = None,
    afresh: bool = False,
    as_json: bool = False,
    report: str | None = None,
) -> int:
    """Send what is missing and wait for it; finished pieces are never paid for twice."""
    from pathlib import Path

    from mantisreed.cli.outcomes import exit_code, show_outcomes
    from mantisreed.cli.progress import Progress
    from mantisreed.pipeline.collecting import retry
    from mantisreed.units import money_given
    from mantisreed.workspace import open_workspace

    workspace = open_workspace(Path(config) if config else None)
    with Progress(console) as progress:
        limit = money_given(spend_limit, "--spend-limit")
        outcomes = retry(workspace, jobs, afresh=afresh, spend_limit=limit, on_event=progress.show)
    show_outcomes(console, outcomes, as_json=as_json, report=report)
    return exit_code(outcomes)
