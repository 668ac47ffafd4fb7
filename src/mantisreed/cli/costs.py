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

    from mantisreed.jobs.ledger import Ledger
    from mantisreed.units import short_duration
    from mantisreed.workspace import open_workspace

    with closing(Ledger(open_workspace(Path(config) if config else None).hidden)) as ledger:
        spent, saved = ledger.spending(by), ledger.saved_seconds()
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
        table.add_row(when, engine, f"{seconds / 60:.1f}", f"{cost:.4f} {currency}" if currency else "unknown")
    if spent:
        console.table(table)
    else:
        console.note("nothing was paid yet")
    if saved:
        console.result(f"{short_duration(saved)} more were answered by kept replies, for nothing")
    return 0
