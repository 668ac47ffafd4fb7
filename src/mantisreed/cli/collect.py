"""`mantisreed collect`: ask for what was sent, take what is ready, and write it out."""

import argparse

from mantisreed.cli.arguments import add_config, add_jobs, add_overwrite, add_report
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

EXAMPLES = """\
examples:
  mantisreed collect
  mantisreed collect --wait 3fa9 b1c0
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `collect` takes."""
    parser.epilog = EXAMPLES
    add_jobs(parser, "all that are not finished")
    add_config(parser)
    parser.add_argument("--wait", action="store_true", help="until everything is there")
    add_overwrite(parser)
    add_report(parser)


def run(
    console: Console,
    *,
    jobs: "Sequence[str]",
    config: str | None = None,
    wait: bool = False,
    overwrite: bool = False,
    as_json: bool = False,
    report: str | None = None,
) -> int:
    """Take what is ready. 0 when all of it was, 3 when some is still under way, else 1."""
    from pathlib import Path

    from mantisreed.cli.outcomes import exit_code, show_outcomes
    from mantisreed.cli.progress import Progress
    from mantisreed.pipeline.collecting import collect
    from mantisreed.workspace import open_workspace

    workspace = open_workspace(Path(config) if config else None)
    with Progress(console) as progress:
        outcomes = collect(workspace, jobs, wait=wait, overwrite=overwrite, on_event=progress.show)
    show_outcomes(console, outcomes, as_json=as_json, report=report)
    return exit_code(outcomes)
