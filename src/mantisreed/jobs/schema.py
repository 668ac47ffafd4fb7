"""The ledger's tables, and how a ledger of an older version becomes one of this version.

    ledger    one row: the version of the schema
    job       one recording at one engine with one set of options; `id` is the address of that work
    piece     one request; `request` is its address, the same for the same sound, engine and options in any job
    attempt   one try of a piece: when, how much was sent, what came, what it cost
    process   those that work with the ledger, and when each was last alive
    start     when requests to an engine started, for its pace
    reply     replies by the digest of their bytes; those over 256 KiB are files
    call      callbacks that were taken, by their ids, so that none is taken twice

Versions: 1 had neither orders nor callbacks; what it holds stays readable and can be run again, but not collected.
"""

from collections.abc import Callable
from typing import Any

import sqlalchemy as sql
from sqlalchemy.engine import Connection

from mantisreed.jobs.records import VERSION

metadata = sql.MetaData()
ledger = sql.Table("ledger", metadata, sql.Column("version", sql.Integer, nullable=False))
job = sql.Table(
    "job",
    metadata,
    sql.Column("id", sql.String, primary_key=True),
    sql.Column("recording", sql.String, nullable=False),
    sql.Column("digest", sql.String, nullable=False),
    sql.Column("engine", sql.String, nullable=False, index=True),
    sql.Column("state", sql.String, nullable=False, index=True),
    sql.Column("reason", sql.String),
    sql.Column("duration", sql.Float),
    sql.Column("currency", sql.String),
    sql.Column("created", sql.Float, nullable=False, index=True),
    sql.Column("changed", sql.Float, nullable=False),
    sql.Column("owner", sql.String),
    sql.Column("order", sql.Text),  # JSON: what was ordered, so that it can be ordered again and written out
    sql.Column("made", sql.Text),  # JSON: what it was made into, once every piece has been handed in
)
piece = sql.Table(
    "piece",
    metadata,
    sql.Column("id", sql.Integer, primary_key=True),
    sql.Column("job", sql.String, sql.ForeignKey("job.id"), nullable=False, index=True),
    sql.Column("request", sql.String, nullable=False, index=True),
    sql.Column("channel", sql.Integer),
    sql.Column("start", sql.Float, nullable=False),
    sql.Column("end", sql.Float, nullable=False),
    sql.Column("state", sql.String, nullable=False),
    sql.Column("owner", sql.String),
    sql.Column("ticket", sql.Text),
    sql.Column("reply", sql.String),
    sql.Column("saved", sql.Boolean, nullable=False, default=False),
    sql.Column("sound", sql.Text),  # JSON: what reading its reply needs to know of what was sent
    sql.Column("price", sql.String),  # what it costs when it is answered
    sql.Column("mark", sql.String),  # the engine's own id for it
    sql.Column("token", sql.String),  # the digest of the secret part of the address to call back
    sql.UniqueConstraint("job", "request"),
    sql.Index("piece_by_reply", "reply"),
    sql.Index("piece_by_state", "state"),
    sql.Index("piece_by_mark", "mark"),
    sql.Index("piece_by_token", "token", unique=True),
)
attempt = sql.Table(
    "attempt",
    metadata,
    sql.Column("id", sql.Integer, primary_key=True),
    sql.Column("piece", sql.Integer, sql.ForeignKey("piece.id"), nullable=False, index=True),
    sql.Column("started", sql.Float, nullable=False, index=True),
    sql.Column("ended", sql.Float),
    sql.Column("bytes", sql.Integer, nullable=False),
    sql.Column("outcome", sql.String),
    sql.Column("error", sql.Text),
    sql.Column("billed", sql.Float, nullable=False, default=0.0),
    sql.Column("cost", sql.String),
)
process = sql.Table(
    "process",
    metadata,
    sql.Column("owner", sql.String, primary_key=True),
    sql.Column("seen", sql.Float, nullable=False),
)
start = sql.Table(
    "start",
    metadata,
    sql.Column("engine", sql.String, nullable=False),
    sql.Column("moment", sql.Float, nullable=False),
    sql.Index("start_by_engine", "engine", "moment"),
)
reply = sql.Table(
    "reply",
    metadata,
    sql.Column("digest", sql.String, primary_key=True),
    sql.Column("body", sql.LargeBinary, nullable=False),
)
call = sql.Table(
    "call",
    metadata,
    sql.Column("id", sql.String, primary_key=True),
    sql.Column("moment", sql.Float, nullable=False),
)


def prepare(connection: Connection) -> int | None:
    """Make the tables, or bring those of an older version up to this one; within the caller's transaction.

    Returns:
        The version that was found if it is newer than this program knows; then nothing was changed. Else None.
    """
    if not sql.inspect(connection).has_table("ledger"):
        metadata.create_all(connection)
        connection.execute(ledger.insert().values(version=VERSION))
        return None
    found = int(connection.scalar(sql.select(ledger.c.version)) or VERSION)
    if found > VERSION:
        return found
    if found < VERSION:
        _migrate(connection, found)
        connection.execute(ledger.update().values(version=VERSION))
    return None


def _migrate(connection: Connection, found: int) -> None:
    from alembic.migration import MigrationContext  # half a second to import, and seldom needed
    from alembic.operations import Operations

    operations = Operations(MigrationContext.configure(connection))
    for version in range(found + 1, VERSION + 1):
        _STEPS[version](operations)


def _to_2(operations: Any) -> None:
    for table, columns in (
        ("job", (("owner", sql.String), ("order", sql.Text), ("made", sql.Text))),
        (
            "piece",
            (
                ("sound", sql.Text),
                ("price", sql.String),
                ("mark", sql.String),
                ("token", sql.String),
            ),
        ),
    ):
        for name, kind in columns:
            operations.add_column(table, sql.Column(name, kind))
    for name in ("state", "mark", "token", "reply"):
        operations.create_index(f"piece_by_{name}", "piece", [name], unique=name == "token")
    operations.create_table(
        "reply",
        sql.Column("digest", sql.String, primary_key=True),
        sql.Column("body", sql.LargeBinary, nullable=False),
    )
    operations.create_table(
        "call", sql.Column("id", sql.String, primary_key=True), sql.Column("moment", sql.Float, nullable=False)
    )


_STEPS: dict[int, Callable[[Any], None]] = {2: _to_2}
"""What makes a ledger of the version before one of this version."""
