"""`mantisreed serve`: listen to engines that call back."""

import argparse

from mantisreed.cli.arguments import add_config
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from mantisreed.pipeline.outcomes import Outcome

EXAMPLES = """\
examples:
  mantisreed serve --callbacks
  mantisreed serve --callbacks --config marsh/mantisreed.toml --log-file calls.log
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `serve` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument(
        "--callbacks",
        action="store_true",
        required=True,
        help="take engines' calls, and write out what they complete",
    )
    add_config(parser)


def run(console: Console, *, callbacks: bool, config: str | None = None) -> int:
    """Serve until stopped. The first line on stdout says where; then a line for each job that is done."""
    from pathlib import Path

    from mantisreed.pipeline.callbacks import ServeHooks, serve_callbacks
    from mantisreed.workspace import open_workspace

    def done(outcome: "Outcome") -> None:
        job = outcome.job.id if outcome.job else "-"
        console.result(f"{job}  {outcome.recording.label}: {outcome.state}")
        if outcome.error:
            console.problem(outcome.error, outcome.recording.label)

    hooks = ServeHooks(
        on_ready=lambda listen: console.result(f"listening on http://{listen}"),
        on_done=done,
        on_failure=lambda what: console.note(f"mantisreed: {what}"),
    )
    serve_callbacks(open_workspace(Path(config) if config else None), hooks)
    return 0
