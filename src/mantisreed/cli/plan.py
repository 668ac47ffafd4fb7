"""`mantisreed plan`: what a run would send and cost; sends nothing."""

import argparse

from mantisreed.cli.arguments import add_engine, add_pieces, add_sources, piece_options
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from mantisreed.engines.card import EngineCard
    from mantisreed.pipeline.plan import PlannedRecording

EXAMPLES = """\
examples:
  mantisreed plan talk.mp3 --engine brook
  mantisreed plan recordings/ --engine brook --piece-length 10min --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `plan` takes."""
    parser.epilog = EXAMPLES
    add_sources(parser)
    add_engine(parser)
    add_pieces(parser)
    parser.add_argument("--json", action="store_true", dest="as_json", help="the plan as JSON on stdout")


def run(
    console: Console,
    *,
    sources: "Sequence[str]",
    config: str | None = None,
    engine: str | None = None,
    track: int | None = None,
    channels: str | None = None,
    piece_length: str | None = None,
    overlap: str | None = None,
    keep_silence: bool = False,
    as_json: bool = False,
) -> int:
    """Prepare everything as a run would, and show it."""
    from pathlib import Path

    from mantisreed.pipeline.plan import plan_recordings
    from mantisreed.pipeline.run import Order
    from mantisreed.pipeline.sources import find_recordings
    from mantisreed.workspace import open_workspace

    workspace = open_workspace(Path(config) if config else None)
    card = workspace.engine(engine)
    pieces = piece_options(track, channels, piece_length, overlap, keep_silence)
    order = Order(card=card, secrets={}, pieces=pieces)
    planned = plan_recordings(order, find_recordings(sources), workspace.hidden)
    if as_json:
        _print_json(console, planned)
    else:
        _print_tables(console, card, planned)
    return 0


def _print_json(console: Console, planned: "Sequence[PlannedRecording]") -> None:
    import msgspec

    recordings = [
        {
            "name": plan.recording.shown,
            "duration": round(plan.duration, 3),
            "speech": round(plan.speech, 3),
            "pieces": [
                {
                    "start": round(piece.start, 3),
                    "end": round(piece.end, 3),
                    "seam": piece.seam,
                    "bytes": piece.size,
                    "format": piece.form,
                    "bit_rate": piece.bit_rate,
                    "channel": piece.channel,
                }
                for piece in plan.pieces
            ],
            "requests": len(plan.pieces),
            "billed": round(plan.billed, 3),
            "cost": None if plan.cost is None else float(round(plan.cost, 6)),
        }
        for plan in planned
    ]
    console.result(msgspec.json.encode({"recordings": recordings}).decode())


def _print_tables(console: Console, card: "EngineCard", planned: "Sequence[PlannedRecording]") -> None:
    from decimal import Decimal

    from mantisreed.pipeline.plan import shortest_time
    from mantisreed.units import short_duration

    for plan in planned:
        _print_pieces(console, plan)
    requests = sum(len(plan.pieces) for plan in planned)
    billed = sum(plan.billed for plan in planned)
    cost = sum((plan.cost for plan in planned if plan.cost is not None), Decimal(0))
    price = f", {cost:.4f} {card.price.currency}".rstrip() if card.price else ", price not in the card"
    waits = shortest_time(card.pace, requests)
    at_least = f"; {card.name}'s pace makes it last {short_duration(waits)} or more" if waits else ""
    one = "request" if requests == 1 else "requests"
    console.result(f"{requests} {one} to {card.name}, {billed / 60:.1f} minutes billed{price}{at_least}")


def _print_pieces(console: Console, plan: "PlannedRecording") -> None:
    from rich.table import Table

    from mantisreed.units import clock, short_duration, short_size

    share = plan.speech / plan.duration if plan.duration else 0.0
    console.result(f"{plan.recording.shown}: {short_duration(plan.duration)}, {share:.0%} of it speech")
    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for heading in ("  piece", "start", "end", "length", "size"):
        table.add_column(heading, justify="right")
    table.add_column("format")
    table.add_column("seam")
    for number, piece in enumerate(plan.pieces, 1):
        length = short_duration(piece.end - piece.start)
        row = (
            str(number),
            clock(piece.start),
            clock(piece.end),
            length,
            short_size(piece.size),
            piece.form,
            piece.seam,
        )
        table.add_row(*row)
    console.table(table)
