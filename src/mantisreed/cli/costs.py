"""`mantisreed costs`: what was paid, and what kept replies have saved."""

import argparse

from mantisreed.cli.arguments import add_config
from mantisreed.cli.console import Console, plain_table

EXAMPLES = """\
examples:
  mantisreed costs
  mantisreed costs --by month --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `costs` takes."""
    parser.epilog = EXAMPLES
    add_config(parser)
    parser.add_argument("--by", choices=("day", "month"), default="day", help="what a row stands for (default: day)")
    parser.add_argument("--json", action="store_true", dest="as_json", help="the sums as JSON on stdout")


def run(console: Console, *, config: str | None = None, by: str = "day", as_json: bool = False) -> int:
    """Sum what the ledger says was billed, by day or month (in UTC) and engine."""
    from contextlib import closing
    from pathlib import Path

    from mantisreed.jobs.ledger import open_ledger
    from mantisreed.jobs.money import money_text
    from mantisreed.units import short_duration
    from mantisreed.workspace import open_workspace

    with closing(open_ledger(open_workspace(Path(config) if config else None))) as ledger:
        spent, saved = ledger.listing.spending(by), ledger.listing.saved_seconds()
    if as_json:
        rows = [
            {
                by: when,
                "engine": engine,
                "currency": currency or None,
                "billed": seconds,
                "cost": float(cost) if currency else None,
            }
            for when, engine, currency, seconds, cost in spent
        ]
        console.document({"costs": rows, "saved": saved})
        return 0
    table = plain_table()
    table.add_column(by)
    table.add_column("engine")
    table.add_column("minutes billed", justify="right")
    table.add_column("cost", justify="right")
    for when, engine, currency, seconds, cost in spent:
        table.add_row(when, engine, f"{seconds / 60:.1f}", money_text(cost if currency else None, currency))
    if spent:
        console.table(table)
    else:
        console.note("nothing was paid yet")
    if saved:
        console.result(f"{short_duration(saved)} more were answered by kept replies, for nothing")
    return 0
