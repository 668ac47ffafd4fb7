"""`mantisreed jobs`: what was sent, how it stands, and what it cost."""

import argparse

from mantisreed.cli.arguments import add_config
from mantisreed.cli.console import Console, plain_table

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

    from mantisreed.jobs.ledger import AttemptRecord, JobRecord, PieceRecord

EXAMPLES = """\
examples:
  mantisreed jobs --state failed
  mantisreed jobs 3fa9
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `jobs` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument(
        "job", nargs="?", metavar="ID", help="one job, by any beginning of its id: pieces and attempts"
    )
    add_config(parser)
    parser.add_argument("--state", metavar="STATE", help="only jobs in this state: done, failed, waiting or working")
    parser.add_argument("--engine", metavar="NAME", help="only jobs of this engine")
    parser.add_argument("--limit", type=int, metavar="N", help="only the newest N")
    parser.add_argument("--json", action="store_true", dest="as_json", help="everything as JSON on stdout")


def run(
    console: Console,
    *,
    job: str | None = None,
    config: str | None = None,
    state: str | None = None,
    engine: str | None = None,
    limit: int | None = None,
    as_json: bool = False,
) -> int:
    """Show the ledger's jobs, or one of them."""
    from contextlib import closing
    from pathlib import Path

    from mantisreed.jobs.ledger import Ledger
    from mantisreed.workspace import open_workspace

    with closing(Ledger(open_workspace(Path(config) if config else None).hidden)) as ledger:
        if job is None:
            records = ledger.jobs(state=state, engine=engine, limit=limit)
            if as_json:
                console.document({"jobs": [_described(record) for record in records]})
            else:
                _print_jobs(console, records)
            return 0
        record = ledger.job(job)
        pieces = ledger.pieces(record.id)
    if as_json:
        console.document(_described(record) | {"pieces": [_described_piece(piece) for piece in pieces]})
    else:
        _print_pieces(console, record, pieces)
    return 0


def _print_jobs(console: Console, records: "Sequence[JobRecord]") -> None:
    from rich.text import Text

    if not records:
        console.note("no job yet")
        return
    table = plain_table()
    for heading in ("job", "when", "engine", "state"):
        table.add_column(heading)
    table.add_column("pieces", justify="right")
    table.add_column("cost", justify="right")
    table.add_column("recording", overflow="fold")
    for record in records:
        table.add_row(
            record.id[:8],
            _moment(record.created),
            record.engine,
            record.state,
            f"{record.pieces_done} of {record.pieces}",
            _money(record.cost, record.currency),
            Text(record.recording),
        )
    console.table(table)


def _print_pieces(console: Console, record: "JobRecord", pieces: "Sequence[PieceRecord]") -> None:

    from mantisreed.units import clock, short_duration, short_size

    console.result(f"{record.id}: {record.recording} at {record.engine}, {record.state}")
    if record.reason:
        console.result(f"  {record.reason}")
    saved = f", {short_duration(record.saved)} from kept replies" if record.saved else ""
    console.result(f"  {record.billed / 60:.1f} minutes billed, {_money(record.cost, record.currency)}{saved}")
    table = plain_table()
    for heading in ("  piece", "start", "end"):
        table.add_column(heading, justify="right")
    for heading in ("state", "sent", "took"):
        table.add_column(heading)
    table.add_column("what came", overflow="fold")
    for number, piece in enumerate(pieces, 1):
        state = "kept reply" if piece.saved else piece.state
        first = (f"{number}", clock(piece.start), clock(piece.end), state)
        if not piece.attempts:
            table.add_row(*first, "", "", "")
        for attempt in piece.attempts:
            took = "" if attempt.ended is None else short_duration(attempt.ended - attempt.started)
            table.add_row(*first, f"{_moment(attempt.started)} {short_size(attempt.bytes)}", took, _came(attempt))
            first = ("", "", "", "")
    console.table(table)


def _came(attempt: "AttemptRecord") -> str:
    return f"{attempt.outcome or 'nothing yet'}{f': {attempt.error}' if attempt.error else ''}"


def _moment(seconds: float) -> str:
    from datetime import datetime

    return datetime.fromtimestamp(seconds).strftime("%Y-%m-%d %H:%M:%S")


def _money(cost: object, currency: str | None) -> str:
    return "unknown cost" if cost is None else f"{cost:.4f} {currency or ''}".rstrip()


def _described(record: "JobRecord") -> "dict[str, Any]":
    import msgspec

    described: dict[str, Any] = msgspec.to_builtins(record)
    return described | {"cost": None if record.cost is None else float(record.cost)}


def _described_piece(piece: "PieceRecord") -> "dict[str, Any]":
    return {
        "start": piece.start,
        "end": piece.end,
        "channel": piece.channel,
        "state": piece.state,
        "kept_reply": piece.saved,
        "attempts": [
            {
                "started": attempt.started,
                "ended": attempt.ended,
                "bytes": attempt.bytes,
                "outcome": attempt.outcome,
                "error": attempt.error,
                "billed": attempt.billed,
                "cost": None if attempt.cost is None else float(attempt.cost),
            }
            for attempt in piece.attempts
        ],
    }
