"""`mantisreed forget`: remove what is kept of jobs."""

import sys
from collections.abc import Sequence
from dataclasses import dataclass

from mantisreed.cli.console import Console
from mantisreed.errors import InputError
from mantisreed.pipeline.sent_jobs.choosing import chosen_jobs
from mantisreed.pipeline.sent_jobs.forgetting import described, described_outputs, forget
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `forget` is asked for; its arguments tell the same."""

    jobs: Sequence[str]
    config: str | None = None
    yes: bool = False
    outputs: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Remove what is kept after asking; to have these transcripts made again would cost money
    again.
    """
    workspace = open_workspace(asked.config)
    found = chosen_jobs(workspace, asked.jobs, ())
    for job in found:
        console.note(f"{job.id}  {job.recording} at {job.engine}, {job.shown}")
    if not asked.yes:
        if not sys.stdin.isatty():
            raise InputError("there is nobody to ask", advice="--yes forgets them without asking")
        console.note(
            "this removes their kept replies; making them again costs again. Go on? [y/N] "
        )
        if sys.stdin.readline().strip().lower() not in ("y", "yes"):
            console.note("nothing was removed")
            return 0
    forgotten = forget(workspace, [job.id for job in found], with_outputs=asked.outputs)
    for one in forgotten:
        for line in described(one):
            console.result(line)
    if told := described_outputs(forgotten):
        console.note(told)
    return 0
