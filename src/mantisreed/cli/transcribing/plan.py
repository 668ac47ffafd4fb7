"""`mantisreed plan`: what a run would send and cost; sends nothing."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from mantisreed.cli.console import Console, described_error, plain_table
from mantisreed.engines.card import EngineCard
from mantisreed.pipeline.options import RunOptions, transcription_options
from mantisreed.pipeline.options_given import piece_options, selection
from mantisreed.sources.finding import find_recordings
from mantisreed.units import clock, short_duration, short_size
from mantisreed.workbench.inspection import inspect_recordings
from mantisreed.workbench.plan import PlannedRecording, plan_recordings, shortest_time
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `plan` is asked for; its arguments tell the same."""

    sources: Sequence[str]
    config: str | None = None
    engine: str | None = None
    plot: str | None = None
    as_json: bool = False
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Prepare everything as a run would, and show it."""
    workspace = open_workspace(asked.config)
    card = workspace.engine(asked.engine)
    pieces = piece_options(asked.options)
    options = transcription_options(
        workspace, RunOptions(engine=asked.engine, pieces=pieces), needs_secrets=False
    )
    recordings = find_recordings(
        asked.sources,
        selection(asked.options),
        on_note=lambda note: console.notes([note]),
    )
    planned = plan_recordings(workspace, options, recordings)
    if asked.plot:
        _draw(Path(asked.plot), planned, pieces.track)
    if asked.as_json:
        _print_json(console, planned)
    else:
        _print_tables(console, card, planned)
    if asked.plot:
        console.note(f"drawn in {asked.plot}")
    for plan in planned:
        if plan.error:
            console.problem(plan.error, plan.recording.label)
    if any(plan.error for plan in planned):
        return 1
    return 0


def _draw(path: Path, planned: Sequence[PlannedRecording], track: int | None) -> None:
    from mantisreed.exports.plots import MOST_PANELS, CutPiece, CutRecording, draw_cuts

    inspected = inspect_recordings([plan.recording for plan in planned[:MOST_PANELS]], track=track)
    drawn = []
    # Only as many are drawn as have room.
    for plan, one in zip(planned, inspected, strict=False):
        channels = list(dict.fromkeys(piece.channel for piece in plan.pieces))
        lanes = [
            [
                CutPiece(p.start, p.end, p.seam == "overlapped")
                for p in plan.pieces
                if p.channel == channel
            ]
            for channel in sorted(channels, key=lambda channel: channel or 0)
        ]
        if one.examination:
            drawn.append(
                CutRecording(plan.recording.name, plan.duration, one.examination.waveform, lanes)
            )
    draw_cuts(path, drawn)


def _print_json(console: Console, planned: Sequence[PlannedRecording]) -> None:
    console.document({"recordings": list(map(_described, planned))})


def _described(plan: PlannedRecording) -> dict[str, object]:
    """A recording's plan, as JSON has it."""
    if plan.error:
        return {"name": plan.recording.label, "error": described_error(plan.error)}
    pieces = [
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
    ]
    return {
        "name": plan.recording.label,
        "duration": round(plan.duration, 3),
        "speech": round(plan.speech, 3),
        "pieces": pieces,
        "requests": len(plan.pieces),
        "billed_seconds": round(plan.billed, 3),
        "cost": None if plan.cost is None else float(round(plan.cost, 6)),
    }


def _print_tables(console: Console, card: EngineCard, planned: Sequence[PlannedRecording]) -> None:
    for plan in planned:
        if not plan.error:
            _print_pieces(console, plan)
    requests = sum(len(plan.pieces) for plan in planned)
    billed = sum(plan.billed for plan in planned)
    cost = sum((plan.cost for plan in planned if plan.cost is not None), Decimal(0))
    if card.price:
        price = f", {cost:.4f} {card.price.currency}".rstrip()
    else:
        price = ", price not in the card"
    waits = shortest_time(card.rate_limit, requests)
    if waits:
        at_least = f"; {card.name}'s rate limit makes it last {short_duration(waits)} or more"
    else:
        at_least = ""
    if requests == 1:
        one = "request"
    else:
        one = "requests"
    console.result(
        f"{requests} {one} to {card.name}, {billed / 60:.1f} minutes billed{price}{at_least}"
    )


def _print_pieces(console: Console, plan: PlannedRecording) -> None:
    if plan.duration:
        share = plan.speech / plan.duration
    else:
        share = 0.0
    console.result(
        f"{plan.recording.label}: {short_duration(plan.duration)}, {share:.0%} of it speech"
    )
    for note in plan.notes:
        console.result(f"  {note}")
    if not plan.pieces:
        console.result("  nobody speaks: nothing would be sent")
        return
    table = plain_table()
    has_channels = any(piece.channel for piece in plan.pieces)
    headings = (
        "  piece",
        *(("channel",) if has_channels else ()),
        "start",
        "end",
        "length",
        "size",
    )
    for heading in headings:
        table.add_column(heading, justify="right")
    table.add_column("format")
    table.add_column("seam")
    for number, piece in enumerate(plan.pieces, 1):
        if piece.bit_rate:
            rate = f" {piece.bit_rate / 1000:g} kbit/s"
        else:
            rate = ""
        table.add_row(
            str(number),
            *((str(piece.channel),) if has_channels else ()),
            clock(piece.start),
            clock(piece.end),
            short_duration(piece.end - piece.start),
            short_size(piece.size),
            piece.form + rate,
            piece.seam,
        )
    console.table(table)
