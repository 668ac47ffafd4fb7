"""A quick look at a SQLite ledger: the same lists as `Listing` gives, without loading SQLAlchemy.

Loading it takes longer than everything else that `mantisreed jobs` does. Nothing is changed here: where something is
to be seen to first, or the ledger is not one that this code knows, the caller opens it in full.
"""

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing
from decimal import Decimal
from pathlib import Path

from mantisreed.jobs.records import LEDGER_FILE, VERSION, Filter, JobRecord

_BUSY_SECONDS = 10.0
_AT_ONCE = 500
_JOB = """
SELECT id, recording, digest, engine, state, reason, duration, created, changed, currency, "order", made FROM job
"""
_PIECES = """
SELECT job, sum(state != 'cancelled'), sum(state = 'done'), sum(CASE WHEN saved THEN "end" - start ELSE 0.0 END)
FROM piece WHERE job IN ({}) GROUP BY job
"""
_ATTEMPTS = """
SELECT piece.job, attempt.billed, attempt.cost, attempt.outcome
FROM attempt JOIN piece ON piece.id = attempt.piece WHERE piece.job IN ({})
"""


def glance(folder: Path, chosen: Filter, limit: int | None) -> tuple[list[JobRecord], int] | None:
    """The newest jobs, and how many there are in all; None when the ledger has to be opened in full.

    Args:
        folder: the workspace's hidden folder.
        chosen: which jobs.
        limit: how many at most; None for all.
    """
    file = folder / LEDGER_FILE
    if not file.is_file():
        return None
    try:
        # Not read-only: in WAL mode even a reader may have to make the index of the log.
        with closing(sqlite3.connect(file, timeout=_BUSY_SECONDS)) as connection:
            if connection.execute("SELECT version FROM ledger").fetchone() != (VERSION,) or _is_open(connection):
                return None
            return _listed(connection, chosen, limit)
    except sqlite3.Error:
        return None  # opening it in full says what is wrong


def _is_open(connection: sqlite3.Connection) -> bool:
    """Whether something is under way, or was when its process died."""
    question = (
        "SELECT EXISTS (SELECT 1 FROM job WHERE state IN ('sending', 'working') AND owner IS NOT NULL) "
        "OR EXISTS (SELECT 1 FROM piece WHERE state = 'sending')"
    )
    return bool(connection.execute(question).fetchone()[0])


def _listed(connection: sqlite3.Connection, chosen: Filter, limit: int | None) -> tuple[list[JobRecord], int]:
    where, values = _where(chosen)
    rows = connection.execute(
        f"{_JOB}{where} ORDER BY created DESC, id LIMIT ?",
        (*values, -1 if limit is None else limit),
    ).fetchall()
    count = int(connection.execute(f"SELECT count(*) FROM job{where}", values).fetchone()[0])  # noqa: S608
    sums: dict[str, list[object]] = {row[0]: [0, 0, 0.0, None, 0.0, 0] for row in rows}
    for some in _batches(list(sums)):
        marks = ", ".join("?" * len(some))
        for job, pieces, done, saved in connection.execute(_PIECES.format(marks), some):
            sums[job][:3] = [pieces, done, saved]
        for job, billed, cost, outcome in connection.execute(_ATTEMPTS.format(marks), some):
            _add(sums[job], billed, cost, outcome)
    return [_record(row, sums[row[0]]) for row in rows], count


def _add(entry: list[object], billed: float, cost: str | None, outcome: str | None) -> None:
    if cost is not None:
        entry[3] = (entry[3] or Decimal(0)) + Decimal(cost)  # type: ignore[operator]
    entry[4] += billed  # type: ignore[operator]
    entry[5] += outcome == "in doubt"  # type: ignore[operator]


def _record(row: Sequence[object], sums: Sequence[object]) -> JobRecord:
    names = (
        *("id", "recording", "digest", "engine", "state", "reason", "duration", "created", "changed", "currency"),
        *("order", "made", "pieces", "pieces_done", "saved", "cost", "billed", "doubts"),
    )
    return JobRecord(**dict(zip(names, (*row, *sums), strict=True)))  # type: ignore[arg-type]


def _where(chosen: Filter) -> tuple[str, tuple[object, ...]]:
    """The condition and its values."""
    parts: list[tuple[str, tuple[object, ...]]] = []
    if chosen.states:
        parts.append((f"state IN ({', '.join('?' * len(chosen.states))})", chosen.states))
    if chosen.engine:
        # A card's profiles are the same engine.
        parts.append(("(engine = ? OR instr(engine, ?) = 1)", (chosen.engine, f"{chosen.engine}:")))
    if chosen.recording:
        parts.append(("instr(lower(recording), lower(?)) > 0", (chosen.recording,)))
    if chosen.since is not None:
        parts.append(("created >= ?", (chosen.since,)))
    if chosen.until is not None:
        parts.append(("created <= ?", (chosen.until,)))
    if chosen.ids is not None:
        parts.append((f"id IN ({', '.join('?' * len(chosen.ids))})", chosen.ids))
    text = " AND ".join(part for part, _ in parts)
    return (f" WHERE {text}" if text else ""), tuple(value for _, values in parts for value in values)


def _batches(ids: Sequence[str]) -> Iterator[Sequence[str]]:
    return (ids[at : at + _AT_ONCE] for at in range(0, len(ids), _AT_ONCE))
