"""Arguments of the commands in this folder; what they do is in a module each."""

import argparse

from mantisreed.cli.arguments import add_config, add_json, at_least

MOST_SHOWN = 30
"""How many jobs are listed unless the user says otherwise; a ledger may hold a hundred thousand."""

_JOBS_EXAMPLES = """\
examples:
  mantisreed jobs --state failed --since 2d
  mantisreed jobs 3fa9 --reply
"""


def add_jobs(parser: argparse.ArgumentParser) -> None:
    """What `jobs` takes."""
    parser.epilog = _JOBS_EXAMPLES
    parser.add_argument(
        "job",
        nargs="?",
        metavar="ID",
        help="One job, by any beginning of its id: pieces and attempts",
    )
    add_config(parser)
    parser.add_argument(
        "--state", metavar="STATES", help="Only jobs in these states, such as failed,waiting"
    )
    parser.add_argument("--engine", metavar="NAME", help="Only jobs of this engine")
    parser.add_argument(
        "--name", metavar="TEXT", help="Only jobs whose recording's name holds this text"
    )
    parser.add_argument(
        "--since", metavar="TIME", help="Only jobs since this date or age (2026-11-03, 12h, 7d)"
    )
    parser.add_argument("--before", metavar="TIME", help="Only jobs before this date or age")
    parser.add_argument(
        "--limit",
        type=at_least(0),
        default=MOST_SHOWN,
        metavar="N",
        help=f"List at most N, the newest first (default: {MOST_SHOWN}; 0 for all)",
    )
    parser.add_argument(
        "--reply",
        nargs="?",
        type=at_least(0),
        const=0,
        metavar="PIECE",
        help="Print the engine's answer for each piece of the job, or for one piece, as it "
        "came; also an answer that could not be read or was incomplete",
    )
    add_json(parser, "Everything as JSON on stdout")


_CANCEL_EXAMPLES = """\
examples:
  mantisreed cancel 3fa9
  mantisreed cancel 3fa9 b1c0
"""


def add_cancel(parser: argparse.ArgumentParser) -> None:
    """What `cancel` takes."""
    parser.epilog = _CANCEL_EXAMPLES
    parser.add_argument("jobs", nargs="+", metavar="ID", help="A job, by any beginning of its id")
    add_config(parser)


_FORGET_EXAMPLES = """\
examples:
  mantisreed forget 3fa9
  mantisreed forget --yes --outputs 3fa9 b1c0
"""


def add_forget(parser: argparse.ArgumentParser) -> None:
    """What `forget` takes."""
    parser.epilog = _FORGET_EXAMPLES
    parser.add_argument("jobs", nargs="+", metavar="ID", help="A job, by any beginning of its id")
    add_config(parser)
    parser.add_argument("--yes", action="store_true", help="Do not ask")
    parser.add_argument("--outputs", action="store_true", help="Also outputs without edits")


_COSTS_EXAMPLES = """\
examples:
  mantisreed costs
  mantisreed costs --by month --json
"""


def add_costs(parser: argparse.ArgumentParser) -> None:
    """What `costs` takes."""
    parser.epilog = _COSTS_EXAMPLES
    add_config(parser)
    parser.add_argument(
        "--by", choices=("day", "month"), default="day", help="The unit of a row (default: day)"
    )
    add_json(parser, "The sums as JSON on stdout")
