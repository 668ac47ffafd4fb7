"""`mantisreed cancel`: call jobs off."""

from collections.abc import Sequence
from dataclasses import dataclass

from mantisreed.cli.console import Console
from mantisreed.pipeline.sent_jobs.cancelling import cancel
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `cancel` is asked for; its arguments tell the same."""

    jobs: Sequence[str]
    config: str | None = None


def run(console: Console, asked: Arguments) -> int:
    """Call them off, also at their engines where the cards say how; what was answered stays
    kept.
    """
    for job, told in cancel(open_workspace(asked.config), asked.jobs):
        console.result(f"{job.id}  {job.recording}: {told}")
    return 0
