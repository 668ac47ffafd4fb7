"""`mantisreed forget`: remove what is kept of jobs."""

import argparse

from mantisreed.cli.arguments import add_config
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

EXAMPLES = """\
examples:
  mantisreed forget 3fa9
  mantisreed forget --yes --outputs 3fa9 b1c0
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `forget` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument("jobs", nargs="+", metavar="ID", help="a job, by any beginning of its id")
    add_config(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask")
    parser.add_argument(
        "--outputs", action="store_true", help="also outputs, unless they were edited"
    )


def run(
    console: Console,
    *,
    jobs: "Sequence[str]",
    config: str | None = None,
    yes: bool = False,
    outputs: bool = False,
) -> int:
    """Remove what is kept after asking; to have these transcripts made again would cost money
    again.
    """
    import sys
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.pipeline.collecting import chosen_jobs
    from mantisreed.pipeline.forgetting import described, described_outputs, forget
    from mantisreed.workspace import open_workspace

    workspace = open_workspace(Path(config) if config else None)
    found = chosen_jobs(workspace, jobs, ())
    for job in found:
        console.note(f"{job.id}  {job.recording} at {job.engine}, {job.shown}")
    if not yes:
        if not sys.stdin.isatty():
            raise InputError(
                "nobody is there to be asked", advice="--yes forgets them without asking"
            )
        console.note(
            "their kept replies are removed; making them again would be paid for again. Go on? "
            "[y/N] "
        )
        if sys.stdin.readline().strip().lower() not in ("y", "yes"):
            console.note("nothing was removed")
            return 0
    forgotten = forget(workspace, [job.id for job in found], with_outputs=outputs)
    for one in forgotten:
        for line in described(one):
            console.result(line)
    if told := described_outputs(forgotten):
        console.note(told)
    return 0
