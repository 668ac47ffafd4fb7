"""`mantisreed services`: the text services of the settings, what they do, and which languages they
take.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from rich.text import Text

from mantisreed.cli.console import Console, plain_table
from mantisreed.pipeline.followups.asking_services import ServiceFacts, service_facts
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `services` is asked for; its arguments tell the same."""

    config: str | None = None
    offline: bool = False
    as_json: bool = False


def run(console: Console, asked: Arguments) -> int:
    """List the services. 1 when one of them could not be asked, else 0."""
    workspace = open_workspace(asked.config)
    found = service_facts(workspace, is_offline=asked.offline)
    if asked.as_json:
        console.document({"services": list(map(_described, found))})
    elif not found:
        console.note(
            "no text service in these settings; `mantisreed docs text-services` shows a card"
        )
    else:
        _print(console, found)
    for one in found:
        if one.error is not None:
            console.problem(one.error, one.card.name)
    if any(one.error is not None for one in found):
        return 1
    return 0


def _described(one: ServiceFacts) -> dict[str, Any]:
    card = one.card
    described: dict[str, Any] = {
        "name": card.name,
        "about": card.about,
        "kind": f"text to {card.kind}",
    }
    described |= {
        "reads": one.reads,
        "writes": one.writes,
        "max_characters": card.accepts.max_characters,
    }
    described["max_tokens"] = card.accepts.max_tokens
    if card.price is not None:
        described["per_thousand_characters"] = float(card.price.per_thousand_characters)
        described["currency"] = card.price.currency
    if one.error is not None:
        described["error"] = str(one.error)
    return described


def _print(console: Console, found: Sequence[ServiceFacts]) -> None:
    table = plain_table()
    for heading in (
        "service",
        "kind",
        "reads",
        "writes",
        "at most",
        "per 1000 characters",
        "about",
    ):
        table.add_column(heading, overflow="fold")
    for one in found:
        card, accepts = one.card, one.card.accepts
        if accepts.max_characters:
            most = f"{accepts.max_characters} characters"
        else:
            most = "-"
        if accepts.max_tokens:
            most = f"{accepts.max_tokens} tokens"
        if card.price is None:
            price = "-"
        else:
            price = f"{card.price.per_thousand_characters} {card.price.currency}".strip()
        reads, writes = (", ".join(tags) or "any" for tags in (one.reads, one.writes))
        table.add_row(
            Text(card.name),
            f"text to {card.kind}",
            reads,
            writes if card.kind == "text" else "-",
            most,
            price,
            Text(card.about),
        )
    console.table(table)
