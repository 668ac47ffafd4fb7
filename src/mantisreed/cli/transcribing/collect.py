"""`mantisreed collect`: ask for what was sent, take what is ready, and write it out."""

from collections.abc import Sequence

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_outcomes
from mantisreed.cli.progress import Progress
from mantisreed.pipeline.collecting import collect
from mantisreed.workspace import open_workspace


def run(
    console: Console,
    *,
    jobs: Sequence[str],
    config: str | None = None,
    wait: bool = False,
    overwrite: bool = False,
    as_json: bool = False,
    report: str | None = None,
) -> int:
    """Take what is ready. 0 when all of it was, 3 when some is still under way, else 1."""
    workspace = open_workspace(config)
    with Progress(console) as progress:
        outcomes = collect(workspace, jobs, wait=wait, overwrite=overwrite, on_event=progress.show)
    show_outcomes(console, outcomes, as_json=as_json, report=report)
    return exit_code(outcomes)
