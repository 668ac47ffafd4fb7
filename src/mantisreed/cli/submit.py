"""`mantisreed submit`: send recordings and go; `collect` takes what comes of it."""

import argparse

from mantisreed.cli.arguments import add_pieces, add_sending, add_sources
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

EXAMPLES = """\
examples:
  mantisreed submit evenings/ --engine dipper --language en
  mantisreed collect --wait $(mantisreed submit briefing.mp3)
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `submit` takes."""
    parser.epilog = EXAMPLES
    add_sources(parser)
    add_sending(parser)
    add_pieces(parser)
    parser.add_argument(
        "--json", action="store_true", dest="as_json", help="jobs and states as JSON on stdout"
    )


def run(
    console: Console, *, sources: "Sequence[str]", as_json: bool = False, **options: "Any"
) -> int:
    """Send; a job's id on each line of stdout. 0 when all was taken, 3 when some of it waits, else
    1.
    """
    from mantisreed.cli.outcomes import exit_code, show_outcomes, show_problems
    from mantisreed.cli.run import sent

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
