"""`mantisreed submit`: send recordings and go; `collect` takes what comes of it."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_outcomes, show_problems
from mantisreed.cli.transcribing.run import sent


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `submit` is asked for; its arguments tell the same."""

    sources: Sequence[str]
    as_json: bool = False
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Send; a job's id on each line of stdout. 0 when all was taken, 3 when some of it waits, else
    1.
    """
    outcomes = sent(console, asked.sources, wait=False, **asked.options)
    if asked.as_json:
        show_outcomes(console, outcomes, as_json=True)
    else:
        for outcome in outcomes:
            if outcome.job:
                console.result(outcome.job.id)
        show_problems(console, outcomes)
    if any(outcome.state == "working" for outcome in outcomes):
        console.note("`mantisreed collect` takes what is ready, with --wait everything")
    return exit_code(outcome for outcome in outcomes if outcome.state != "working")
