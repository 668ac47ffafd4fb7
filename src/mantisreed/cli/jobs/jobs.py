"""`mantisreed jobs`: what was sent, how it stands, and what it cost."""

import sys
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import msgspec
from rich.text import Text

from mantisreed.cli.console import Console, plain_table
from mantisreed.cli.jobs.arguments import MOST_SHOWN
from mantisreed.errors import InputError
from mantisreed.jobs.budget import amount_as_json, money_text, reported_text
from mantisreed.jobs.follow_ups import FollowUpRecord
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.life import states_given
from mantisreed.jobs.records import AttemptRecord, Filter, JobRecord, JobSummary, PieceRecord
from mantisreed.jobs.under_way import UnderWay
from mantisreed.units import clock, count_of, moment_given, short_duration, short_size
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `jobs` is asked for; its arguments tell the same."""

    job: str | None = None
    config: str | None = None
    state: str | None = None
    engine: str | None = None
    name: str | None = None
    since: str | None = None
    before: str | None = None
    limit: int = MOST_SHOWN
    reply: int | None = None
    as_json: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Show the ledger's jobs, or one of them."""
    chosen = Filter(
        shown=states_given(asked.state, "--state"),
        engine=asked.engine,
        recording=asked.name,
        since=moment_given(asked.since, "--since"),
        until=moment_given(asked.before, "--before"),
    )
    if asked.reply is not None and (asked.job is None or asked.as_json):
        what = "has no effect without the ID of a job, nor with --json"
        raise InputError(what, where="--reply", advice="mantisreed jobs ID --reply")
    workspace = open_workspace(asked.config)
    with closing(open_ledger(workspace)) as ledger:
        if asked.job is None:
            pages = ledger.listing.pages(chosen, limit=asked.limit or None)
            count = ledger.listing.count(chosen)
            under_way = ledger.under_way()
            if asked.as_json:
                rest = {"count": count, "under_way": _described_work(under_way)}
                console.listed_document("jobs", (map(_described, page) for page in pages), rest)
            else:
                _show_jobs(console, pages, count, asked.limit or count, under_way)
            return 0
        record = ledger.listing.job(asked.job)
        pieces = ledger.listing.pieces(record.id)
        if asked.reply is not None:
            return _print_replies(console, ledger, record, _chosen(pieces, asked.reply))
        followed = ledger.follow_ups.of_job(record.id)
    if asked.as_json:
        described = _described(record) | {"pieces": list(map(_described_piece, pieces))}
        console.document(described | {"follow_ups": list(map(_described_follow_up, followed))})
    else:
        _print_pieces(console, record, pieces)
        if followed:
            _print_follow_ups(console, followed)
    return 0


def _show_jobs(
    console: Console,
    pages: Iterator[list[JobSummary]],
    count: int,
    limit: int,
    under_way: UnderWay,
) -> None:
    if count:
        rows = ([_row_of(record) for record in page] for page in pages)
        console.pages(_HEADINGS, rows, min(count, limit))
    else:
        console.note("no job yet")
    if count > limit:
        console.note(f"the newest {limit} of {count}; --limit 0 lists all")
    for line in under_way.lines():
        console.note(line)


def _described_work(under_way: UnderWay) -> dict[str, Any]:
    return {
        "workers": [
            {
                "machine": one.host,
                "pid": one.pid,
                "version": one.program,
                "started": one.started,
                "recordings": one.jobs,
            }
            for one in under_way.workers
        ],
        **under_way.figures(),
    }


def _chosen(pieces: Sequence[PieceRecord], number: int) -> Sequence[PieceRecord]:
    """The piece of this number, from 1; all of them for 0."""
    if number > len(pieces):
        raise InputError(f"the job has {count_of(len(pieces), 'piece')}", where="--reply")
    if number:
        return pieces[number - 1 : number]
    return pieces


def _print_replies(
    console: Console, ledger: Ledger, record: JobRecord, pieces: Sequence[PieceRecord]
) -> int:
    """Print what is kept of the engine's answers to the byte; secrets in them were hidden before
    they were kept.
    """
    missing = 0
    for piece in pieces:
        request = piece.request
        if request.has_reply:
            body = ledger.requests.reply(request) or b""
        elif request.unread is not None:
            body = ledger.requests.unread_answer(request)
        else:
            missing += 1
            continue
        sys.stdout.buffer.write(body if body.endswith(b"\n") else body + b"\n")
    sys.stdout.buffer.flush()
    if missing:
        console.note(f"no answer is kept for {count_of(missing, 'piece')} of job {record.id[:8]}")
    return 1 if missing == len(pieces) else 0


_HEADINGS = ("job", "when", "engine", "state", ">pieces", ">cost", "recording")


def _row_of(record: JobSummary) -> tuple[str, ...]:
    if record.cost is None and not record.pieces_done:
        cost = "-"
    else:
        cost = money_text(record.cost, record.currency)
    return (
        record.id[:8],
        _moment(record.created),
        record.engine,
        record.shown,
        f"{record.pieces_done} of {record.pieces}",
        cost,
        record.recording,
    )


def _print_pieces(console: Console, record: JobRecord, pieces: Sequence[PieceRecord]) -> None:
    console.result(f"{record.id}: {record.recording} at {record.engine}, {record.shown}")
    if record.machine:
        console.result(f"  under way on {record.machine}")
    if record.reason:
        console.result(f"  {record.reason}")
    paid = money_text(record.cost, record.currency)
    if record.maybe:
        paid += f", up to {money_text(record.maybe, record.currency)} more unconfirmed"
    if record.saved:
        paid += f", {short_duration(record.saved)} from kept replies"
    said = reported_text(record.reported_seconds, record.reported_cost, record.currency)
    if said:
        paid += f"; the engine says {said}"
    console.result(f"  {record.billed / 60:.1f} minutes billed, {paid}")
    table = plain_table()
    for heading in ("  piece", "start", "end"):
        table.add_column(heading, justify="right")
    for heading in ("state", "sent", "took"):
        table.add_column(heading)
    table.add_column("what came", overflow="fold")
    for number, piece in enumerate(pieces, 1):
        for row in _rows_of(number, piece):
            table.add_row(*row)
    console.table(table)


def _rows_of(number: int, piece: PieceRecord) -> Iterator[tuple[str, ...]]:
    """A row for each attempt; the piece itself stands in the first one."""
    if piece.saved:
        state = "kept reply"
    else:
        state = piece.state
    first = (f"{number}", clock(piece.start), clock(piece.end), state)
    if not piece.attempts:
        yield *first, "", "", ""
    for attempt in piece.attempts:
        took = ""
        if attempt.ended is not None:
            took = short_duration(attempt.ended - attempt.started)
        sent = f"{_moment(attempt.started)} {short_size(attempt.bytes)}"
        yield *first, sent, took, _came(attempt)
        first = ("", "", "", "")


def _print_follow_ups(console: Console, followed: Sequence[FollowUpRecord]) -> None:
    table = plain_table()
    for heading in ("  follow-up", "state", "when"):
        table.add_column(heading)
    for heading in ("attempts", "characters", "cost"):
        table.add_column(heading, justify="right")
    table.add_column("what came", overflow="fold")
    for one in followed:
        table.add_row(
            Text(f"  {one.name}"),
            one.state,
            _moment(one.changed),
            str(one.attempts),
            str(one.characters) if one.characters else "-",
            "-" if one.cost is None else money_text(one.cost, one.currency),
            Text(
                one.reason
                or " ".join(str(file).rpartition("/")[2] for file in one.result.get("files") or ())
            ),
        )
    console.table(table)


def _described_follow_up(one: FollowUpRecord) -> dict[str, Any]:
    return {
        "name": one.name,
        "state": one.state,
        "reason": one.reason,
        "attempts": one.attempts,
        "characters": one.characters,
        "cost": amount_as_json(one.cost),
        "currency": one.currency,
        "changed": one.changed,
        "result": dict(one.result),
    }


def _came(attempt: AttemptRecord) -> str:
    return f"{attempt.outcome or 'nothing yet'}{f': {attempt.error}' if attempt.error else ''}"


def _moment(seconds: float) -> str:
    return datetime.fromtimestamp(int(seconds)).isoformat(" ")


def _described(record: JobSummary) -> dict[str, Any]:
    described: dict[str, Any] = msgspec.to_builtins(record)
    for internal in ("options", "made", "identity"):  # that a whole record has
        described.pop(internal, None)
    if record.cost is None:
        cost = None
    else:
        cost = float(record.cost)
    unconfirmed = described.pop("unconfirmed")
    return described | {
        "state": described.pop("shown"),
        "cost": cost,
        "billed_seconds": described.pop("billed"),
        "maybe": float(record.maybe),
        "reported_cost": amount_as_json(record.reported_cost),
        "unconfirmed_attempts": unconfirmed,
    }


def _described_piece(piece: PieceRecord) -> dict[str, Any]:
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
                "charge": attempt.charge,
                "billed_seconds": attempt.billed,
                "cost": amount_as_json(attempt.cost),
                "reported_seconds": attempt.reported_seconds,
                "reported_cost": amount_as_json(attempt.reported_cost),
            }
            for attempt in piece.attempts
        ],
    }
