"""The ledger's tables, and how a ledger of an older version becomes one of this version.

    ledger    one row: the version of the schema
    process   those that work with the ledger; each holds a lock for as long as it lives
              (`ownership.py`)
    job       one recording at one engine with one set of options; `id` is a digest of these
    piece     a span of a job's recording, and the request that brings its reply
    request   what is sent, known by `key`, the same for the same sound and the same request in
              any job; its state, the ticket of the engine's own job, the digest of its reply
    attempt   one try of a request: for which job, when, how much was sent, what came, what it cost
    start     when requests to an engine started, for its rate limit
    reply     replies by the digest of their bytes; those over 256 KiB are files
    call      callbacks that were taken, by their ids, so that none is taken twice
    follow_up what is done with a job's transcript; `id` is a digest of the job, the follow-up and
              what goes into it
    question  what a text service is asked, known by `key`, the same for the same text in any job;
              the digest of its answer

Versions: 1 had neither options nor callbacks; 2 kept a reply with each piece instead of each
request; 3 did not know what engines say of their price; 4 had no follow-ups.
"""

from mantisreed.jobs.database import Database
from mantisreed.jobs.records import VERSION

_FOLLOW_UPS = (
    """
    CREATE TABLE follow_up (
        id TEXT PRIMARY KEY,
        job TEXT NOT NULL,
        name TEXT NOT NULL,
        state TEXT NOT NULL,                 -- waiting, working, done, failed, in doubt
        reason TEXT,
        owner TEXT,                          -- the process that deals with it
        attempts INTEGER NOT NULL DEFAULT 0,
        result TEXT,                         -- JSON: its kind, its files, where it went
        body TEXT,                           -- the digest of what it gave, among the replies
        -- That were sent to a text service, and not answered before.
        characters BIGINT NOT NULL DEFAULT 0,
        cost TEXT,
        currency TEXT,
        created DOUBLE PRECISION NOT NULL,
        changed DOUBLE PRECISION NOT NULL
    )
    """,
    "CREATE INDEX follow_up_by_job ON follow_up (job)",
    """
    CREATE TABLE question (
        key TEXT PRIMARY KEY,
        service TEXT NOT NULL,
        job TEXT NOT NULL,                   -- the last one that asked
        state TEXT NOT NULL,                 -- sending, done, failed, in doubt
        owner TEXT,
        -- Times that it was sent and nobody knows whether it was answered.
        doubts INTEGER NOT NULL DEFAULT 0,
        characters BIGINT NOT NULL,
        cost TEXT,
        currency TEXT,
        answer TEXT,                         -- the digest of it, among the replies
        asked DOUBLE PRECISION NOT NULL
    )
    """,
)

_CREATE = (
    "CREATE TABLE ledger (version INTEGER NOT NULL)",
    """
    CREATE TABLE process (
        owner TEXT PRIMARY KEY,
        started DOUBLE PRECISION NOT NULL
    )
    """,
    """
    CREATE TABLE job (
        id TEXT PRIMARY KEY,
        recording TEXT NOT NULL,
        searchable TEXT NOT NULL,            -- the name in one case: databases fold only ASCII
        digest TEXT NOT NULL,
        engine TEXT NOT NULL,
        state TEXT NOT NULL,
        reason TEXT,
        duration DOUBLE PRECISION,
        currency TEXT,
        created DOUBLE PRECISION NOT NULL,
        changed DOUBLE PRECISION NOT NULL,
        owner TEXT,
        options TEXT, -- JSON: all that it takes to do it again, or to write it out
        cuts TEXT, -- JSON: by which limits it was cut, so that it is cut the same again
        made TEXT -- JSON: its requests in order, once every piece has been handed in
    )
    """,
    "CREATE INDEX job_by_engine ON job (engine)",
    "CREATE INDEX job_by_state ON job (state)",
    "CREATE INDEX job_by_created ON job (created)",
    """
    CREATE TABLE request (
        key TEXT PRIMARY KEY,
        state TEXT NOT NULL,
        owner TEXT,                          -- the process that deals with it
        reason TEXT,
        failure TEXT,                        -- the event by which it failed
        ticket TEXT,                         -- JSON: what asking for it needs
        mark TEXT,                           -- the engine's own id for it
        -- Whether the engine has ever said that it has the job.
        was_known INTEGER NOT NULL DEFAULT 0,
        token TEXT, -- the digest of the secret part of the address to call back
        reply TEXT,                          -- the digest of its reply
        unread TEXT,                         -- the digest of an answer that could not be read
        unread_step TEXT,                    -- and of which step it is
        sound TEXT, -- JSON: what reading its reply needs to know of what was sent
        price TEXT                           -- what it costs when it is answered
    )
    """,
    # Partial, as every index that a request is in makes each of its changes dearer.
    "CREATE INDEX request_by_owner ON request (owner) WHERE owner IS NOT NULL",
    "CREATE INDEX request_by_mark ON request (mark) WHERE mark IS NOT NULL",
    "CREATE UNIQUE INDEX request_by_token ON request (token) WHERE token IS NOT NULL",
    """
    CREATE TABLE piece (
        job TEXT NOT NULL,
        request TEXT NOT NULL,
        channel INTEGER,
        starts DOUBLE PRECISION NOT NULL,
        ends DOUBLE PRECISION NOT NULL,
        is_cancelled INTEGER NOT NULL DEFAULT 0,
        PRIMARY KEY (job, request)
    )
    """,
    "CREATE INDEX piece_by_request ON piece (request)",
    """
    CREATE TABLE attempt (
        id {serial},
        request TEXT NOT NULL,
        job TEXT NOT NULL,
        started DOUBLE PRECISION NOT NULL,
        ended DOUBLE PRECISION,
        bytes BIGINT NOT NULL,
        outcome TEXT,
        error TEXT,
        charge TEXT NOT NULL,                -- none, open, maybe or sure
        price TEXT,                          -- by the card, before it was sent
        billed DOUBLE PRECISION NOT NULL DEFAULT 0,
        cost TEXT,
        reported_seconds DOUBLE PRECISION,   -- as the engine says it
        reported_cost TEXT
    )
    """,
    "CREATE INDEX attempt_by_request ON attempt (request)",
    "CREATE INDEX attempt_by_job ON attempt (job)",
    """
    CREATE TABLE start (
        engine TEXT NOT NULL,
        moment DOUBLE PRECISION NOT NULL,
        noted DOUBLE PRECISION NOT NULL      -- the database's time when it was given out
    )
    """,
    "CREATE INDEX start_by_engine ON start (engine, moment)",
    *_FOLLOW_UPS,
    "CREATE TABLE reply (digest TEXT PRIMARY KEY, body BYTEA NOT NULL)",
    "CREATE TABLE call (id TEXT PRIMARY KEY, moment DOUBLE PRECISION NOT NULL)",
)

_SERIAL = {
    True: "INTEGER PRIMARY KEY",
    False: "BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY",
}


def prepare(database: Database, *, is_sqlite: bool) -> int | None:
    """Make the tables, or bring those of an older version up to this one; in one transaction.

    Returns:
        The version that was found if it is newer than this program knows; then nothing was changed.
        Else None.
    """
    with database.transaction():
        if "ledger" not in database.tables():
            _create(database, is_sqlite=is_sqlite)
            database.execute("INSERT INTO ledger (version) VALUES (:version)", {"version": VERSION})
            return None
        versions = database.execute("SELECT version FROM ledger")
        found = int(versions[0]["version"]) if versions else VERSION
        if found > VERSION:
            return found
        if found < VERSION:
            _migrate(database, found, is_sqlite=is_sqlite)
            database.execute("UPDATE ledger SET version = :version", {"version": VERSION})
        return None


def _create(database: Database, *, is_sqlite: bool) -> None:
    database.script([statement.replace("{serial}", _SERIAL[is_sqlite]) for statement in _CREATE])


_TO_2 = (
    'ALTER TABLE job ADD COLUMN "owner" TEXT',
    'ALTER TABLE job ADD COLUMN "order" TEXT',
    "ALTER TABLE job ADD COLUMN made TEXT",
    "ALTER TABLE piece ADD COLUMN sound TEXT",
    "ALTER TABLE piece ADD COLUMN price TEXT",
    "ALTER TABLE piece ADD COLUMN mark TEXT",
    "ALTER TABLE piece ADD COLUMN token TEXT",
    "CREATE TABLE reply (digest TEXT PRIMARY KEY, body BYTEA NOT NULL)",
    "CREATE TABLE call (id TEXT PRIMARY KEY, moment DOUBLE PRECISION NOT NULL)",
)

_OLD_TABLES = ("job", "piece", "attempt", "reply", "call")

_REQUESTS_OF_2 = """
    INSERT INTO request (key, state, ticket, mark, reply, sound, price)
    SELECT request, CASE WHEN state = 'sending' THEN 'in doubt' ELSE state END, ticket, mark,
        reply, sound, price
    FROM old_piece WHERE state {} 'done'
    ON CONFLICT (key) DO NOTHING
"""

_FROM_2 = (
    """
    INSERT INTO job (id, recording, searchable, digest, engine, state, reason, duration, currency,
        created, changed)
    SELECT id, recording, lower(recording), digest, engine, state, reason, duration, currency,
        created, changed
    FROM old_job
    """,
    # Requests had other keys then, so that none of these is taken up again; they stay for what they
    # cost. Several pieces may have had one request: one that is done comes first.
    _REQUESTS_OF_2.format("="),
    _REQUESTS_OF_2.format("<>"),
    """
    INSERT INTO piece (job, request, channel, starts, ends)
    SELECT job, request, channel, start, "end" FROM old_piece
    """,
    """
    INSERT INTO attempt (request, job, started, ended, bytes, outcome, error, charge, price,
        billed, cost)
    SELECT old_piece.request, old_piece.job, started, ended, bytes, outcome, error,
           CASE outcome WHEN 'done' THEN 'sure' WHEN 'in doubt' THEN 'maybe' ELSE 'none' END,
           price, billed, cost
    FROM old_attempt JOIN old_piece ON old_piece.id = old_attempt.piece ORDER BY old_attempt.id
    """,
    "INSERT INTO reply (digest, body) SELECT digest, body FROM old_reply",
    "INSERT INTO call (id, moment) SELECT id, moment FROM old_call",
)


_FROM_3 = (
    "ALTER TABLE attempt ADD COLUMN reported_seconds DOUBLE PRECISION",
    "ALTER TABLE attempt ADD COLUMN reported_cost TEXT",
)


def _migrate(database: Database, found: int, *, is_sqlite: bool) -> None:
    if found == 4:
        database.script(_FOLLOW_UPS)
        return
    if found == 3:
        database.script([*_FROM_3, *_FOLLOW_UPS])
        return
    if found < 2:
        database.script(_TO_2)
    for table in _OLD_TABLES:
        database.execute(f"ALTER TABLE {table} RENAME TO old_{table}")
    for name in _old_indexes(database, is_sqlite=is_sqlite):
        database.execute(f"DROP INDEX {name}")
    database.script(["DROP TABLE ledger", "DROP TABLE process", "DROP TABLE start"])
    _create(database, is_sqlite=is_sqlite)
    database.execute("INSERT INTO ledger (version) VALUES (2)")
    database.script(_FROM_2)
    for table in reversed(_OLD_TABLES):
        database.execute(f"DROP TABLE old_{table}")


def _old_indexes(database: Database, *, is_sqlite: bool) -> list[str]:
    """Indexes whose names the new tables' own would meet; those of keys go with their tables."""
    if is_sqlite:
        found = database.execute(
            "SELECT name FROM sqlite_master WHERE type = 'index' AND sql IS NOT NULL"
        )
    else:
        found = database.execute(
            """
            SELECT c.relname AS name FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
            JOIN pg_namespace n ON n.oid = c.relnamespace
            WHERE n.nspname = current_schema() AND NOT i.indisunique
            """
        )
    return [f'"{row["name"]}"' for row in found]
