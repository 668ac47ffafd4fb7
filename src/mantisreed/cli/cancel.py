"""`mantisreed cancel`: call jobs off."""

import argparse

from mantisreed.cli.arguments import add_config
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

EXAMPLES = """\
examples:
  mantisreed cancel 3fa9
  mantisreed cancel 3fa9 b1c0
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `cancel` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument("jobs", nargs="+", metavar="ID", help="a job, by any beginning of its id")
    add_config(parser)


def run(console: Console, *, jobs: "Sequence[str]", config: str | None = None) -> int:
    """Call them off, also at their engines where the cards say how; what was answered stays
    kept.
    """
    from pathlib import Path

    from mantisreed.pipeline.collecting import cancel
    from mantisreed.workspace import open_workspace

    for job, told in cancel(open_workspace(Path(config) if config else None), jobs):
        console.result(f"{job.id}  {job.recording}: {told}")
    return 0
