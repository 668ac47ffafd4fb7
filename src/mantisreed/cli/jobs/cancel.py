"""`mantisreed cancel`: call jobs off."""

from collections.abc import Sequence

from mantisreed.cli.console import Console
from mantisreed.pipeline.collecting import cancel
from mantisreed.workspace import open_workspace


def run(console: Console, *, jobs: Sequence[str], config: str | None = None) -> int:
    """Call them off, also at their engines where the cards say how; what was answered stays
    kept.
    """
    for job, told in cancel(open_workspace(config), jobs):
        console.result(f"{job.id}  {job.recording}: {told}")
    return 0
