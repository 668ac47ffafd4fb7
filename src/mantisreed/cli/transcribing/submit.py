"""`mantisreed submit`: send recordings and go; `collect` takes what comes of it."""

from collections.abc import Sequence
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_outcomes, show_problems
from mantisreed.cli.transcribing.run import sent


def run(console: Console, *, sources: Sequence[str], as_json: bool = False, **options: Any) -> int:
    """Send; a job's id on each line of stdout. 0 when all was taken, 3 when some of it waits, else
    1.
    """
    outcomes = sent(console, sources, wait=False, **options)
    if as_json:
        show_outcomes(console, outcomes, as_json=True)
    else:
        for outcome in outcomes:
            if outcome.job:
                console.result(outcome.job.id)
        show_problems(console, outcomes)
    if any(outcome.state == "working" for outcome in outcomes):
        console.note("`mantisreed collect` takes what is ready, with --wait everything")
    return exit_code(outcome for outcome in outcomes if outcome.state != "working")
