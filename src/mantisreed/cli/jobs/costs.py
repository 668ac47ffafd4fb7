"""`mantisreed costs`: what was paid, what may have been, and what kept replies have saved."""

from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from typing import Any, Literal

from mantisreed.cli.console import Console, plain_table
from mantisreed.jobs.budget import amount_as_json, money_text, reported_text
from mantisreed.jobs.follow_ups import ServiceSpending
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.listing import Spending
from mantisreed.units import short_duration
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `costs` is asked for; its arguments tell the same."""

    config: str | None = None
    by: Literal["day", "month"] = "day"
    as_json: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Sum what the ledger says was billed, by day or month (in UTC) and engine."""
    with closing(open_ledger(open_workspace(asked.config))) as ledger:
        spent, saved = ledger.listing.spending(asked.by), ledger.listing.saved_seconds()
        services = ledger.follow_ups.spending(asked.by)
    if asked.as_json:
        described = [_described_service(one, asked.by) for one in services]
        console.document(
            {
                "costs": [_described(one, asked.by) for one in spent],
                "saved": saved,
                "services": described,
            }
        )
        return 0
    table = plain_table()
    table.add_column(asked.by)
    table.add_column("engine")
    table.add_column("minutes billed", justify="right")
    table.add_column("cost", justify="right")
    table.add_column("unconfirmed", justify="right")
    is_reported = any(
        one.reported_seconds is not None or one.reported_cost is not None for one in spent
    )
    if is_reported:
        table.add_column("engine says", justify="right")
    for one in spent:
        if one.maybe:
            maybe = money_text(one.maybe, one.currency)
        else:
            maybe = ""
        cost = money_text(one.cost, one.currency)
        said: tuple[str, ...] = ()
        if is_reported:
            said = (reported_text(one.reported_seconds, one.reported_cost, one.currency),)
        table.add_row(one.when, one.engine, f"{one.seconds / 60:.1f}", cost, maybe, *said)
    if spent:
        console.table(table)
    else:
        console.note("no charge yet")
    if services:
        _print_services(console, services, asked.by)
    if saved:
        console.result(f"{short_duration(saved)} more were answered by kept replies, at no cost")
    return 0


def _print_services(console: Console, services: Sequence[ServiceSpending], by: str) -> None:
    table = plain_table()
    for heading in (by, "text service"):
        table.add_column(heading)
    for heading in ("characters", "cost", "unconfirmed"):
        table.add_column(heading, justify="right")
    for one in services:
        if one.cost is None:
            cost = "-"
        else:
            cost = money_text(one.cost, one.currency)
        if one.maybe:
            maybe = money_text(one.maybe, one.currency)
        else:
            maybe = ""
        table.add_row(one.when, one.service, str(one.characters), cost, maybe)
    console.table(table)


def _described_service(one: ServiceSpending, by: str) -> dict[str, Any]:
    return {
        by: one.when,
        "service": one.service,
        "currency": one.currency or None,
        "characters": one.characters,
        "cost": amount_as_json(one.cost),
        "maybe": float(one.maybe),
    }


def _described(spending: Spending, by: str) -> dict[str, Any]:
    """One row of `--json`."""
    return {
        by: spending.when,
        "engine": spending.engine,
        "currency": spending.currency or None,
        "billed_seconds": spending.seconds,
        "cost": amount_as_json(spending.cost),
        "maybe": float(spending.maybe),
        "reported_seconds": spending.reported_seconds,
        "reported_cost": amount_as_json(spending.reported_cost),
    }
