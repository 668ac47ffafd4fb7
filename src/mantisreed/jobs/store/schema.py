"""The ledger's tables, and how a ledger of an older version becomes one of this version.

    ledger    one row: the version of the schema, and the oldest one whose programs can work with it
    process   those that work with the ledger, when they were seen (`ownership.py`), and which
              version they know
    job       one recording that somebody wants by one engine with one set of options; `identity`
              is a digest of these, and the `id` too where nobody has given it another one
    piece     a span of a job's recording, and the request that brings its reply
    request   what is sent, known by `key`, the same for the same sound and the same request in
              any job; its state, the ticket of the engine's own job, the digest of its reply
    attempt   one try of a request: for which job, when, how much was sent, what came, what it cost
    payment   what was paid for runs of which nothing else is kept
    start     when requests to an engine started, for its rate limit
    room_wish which process waits until an engine has room for a request of it, since when, and
              when it last said so
    reply     replies by the digest of their bytes; those over 256 KiB are files
    call      callbacks that were taken, by their ids, so that none is taken twice
    follow_up what is done with a job's transcript; `id` is a digest of the job, the follow-up and
              what goes into it
    question  what a text service is asked, known by `key`, the same for the same text in any job;
              the digest of its answer
    stem      which recording has a stem in a storage; both are known by digests only
    served    what services were asked for: each in JSON, with a number that grows with each change;
              of a forgotten one only whose it was and what it has cost is left
    upload    recordings that come to services in several parts, and how much of each has come
    token     who may use the services: in JSON, with the digest of each token
    signing   keys that all services sign addresses with

A newer program first expands the tables: columns and tables are added, and older programs go on
beside it. What older programs could not work with waits until none of them lives (`Step`).

Versions: 10 did not know what services are asked for. 9 did not know whose stems in a storage are.
8 did not know who can read it. 7 did not know to which engine a request is on its way, and no
queue. 6 did not know where processes run. 5 did not know how a job that is done has ended, nor jobs
that ask for the same, and had `in doubt` for `unconfirmed`.
"""

from collections.abc import Callable
from dataclasses import dataclass

from mantisreed.jobs.records import VERSION
from mantisreed.jobs.store.database import Database, LedgerError
from mantisreed.units import count_of

_FOLLOW_UPS = (
    """
    CREATE TABLE follow_up (
        id TEXT PRIMARY KEY,
        job TEXT NOT NULL,
        name TEXT NOT NULL,
        state TEXT NOT NULL,                 -- waiting, working, done, failed, unconfirmed
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
        state TEXT NOT NULL,                 -- sending, done, failed, unconfirmed
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

_WITH_OWNERS = ("CREATE INDEX job_by_owner ON job (owner) WHERE owner IS NOT NULL",)

_ROOM = (
    """
    CREATE TABLE room_wish (
        engine TEXT NOT NULL,
        owner TEXT NOT NULL,
        since DOUBLE PRECISION NOT NULL,
        seen DOUBLE PRECISION NOT NULL,
        PRIMARY KEY (engine, owner)
    )
    """,
    # Holds only what is on its way at the moment, so that counting is quick however much was sent.
    "CREATE INDEX request_on_its_way ON request (engine) WHERE state = 'sending'",
    "CREATE INDEX question_on_its_way ON question (service) WHERE state = 'sending'",
)

_PAYMENTS = """
    CREATE TABLE payment (
        started DOUBLE PRECISION NOT NULL,
        engine TEXT NOT NULL,
        currency TEXT,
        billed DOUBLE PRECISION NOT NULL,
        cost TEXT,
        price TEXT,
        charge TEXT NOT NULL,
        reported_seconds DOUBLE PRECISION,
        reported_cost TEXT
    )
    """

_SERVED = (
    """
    CREATE TABLE served (
        id TEXT PRIMARY KEY,
        owner TEXT NOT NULL,                 -- the name of the token that sent it
        key TEXT,                            -- the idempotency key with which it was sent
        number BIGINT NOT NULL DEFAULT 1,    -- of its last change
        changed DOUBLE PRECISION NOT NULL,
        cost DOUBLE PRECISION NOT NULL DEFAULT 0, -- of one that is forgotten
        body BYTEA                           -- JSON; NULL of one that is forgotten
    )
    """,
    "CREATE UNIQUE INDEX served_by_key ON served (owner, key) WHERE key IS NOT NULL",
    "CREATE INDEX served_by_changed ON served (changed)",
    """
    CREATE TABLE upload (
        id TEXT PRIMARY KEY,
        owner TEXT NOT NULL,                 -- the name of the token that began it
        name TEXT NOT NULL,
        length BIGINT,                       -- bytes that it will have, where somebody said
        has BIGINT NOT NULL DEFAULT 0,       -- bytes that have come
        is_complete INTEGER NOT NULL DEFAULT 0,
        changed DOUBLE PRECISION NOT NULL
    )
    """,
    "CREATE TABLE token (name TEXT PRIMARY KEY, body BYTEA NOT NULL)",
    "CREATE TABLE signing (name TEXT PRIMARY KEY, value TEXT NOT NULL)",
)

_STEMS = ("CREATE TABLE stem (name TEXT PRIMARY KEY, owner TEXT NOT NULL)",)

_CREATE = (
    "CREATE TABLE ledger (version INTEGER NOT NULL, readable_from INTEGER NOT NULL)",
    """
    CREATE TABLE process (
        owner TEXT PRIMARY KEY,
        started DOUBLE PRECISION NOT NULL,
        seen DOUBLE PRECISION NOT NULL DEFAULT 0,  -- when it was last known to live
        host TEXT,
        pid INTEGER,
        program TEXT,                        -- the version of the program
        role TEXT,                           -- `work` for a worker; NULL for a command that ends
        is_to_end INTEGER NOT NULL DEFAULT 0, -- whether it was asked to end
        ledger INTEGER                       -- the version of the ledger that it knows
    )
    """,
    """
    CREATE TABLE job (
        id TEXT PRIMARY KEY,
        identity TEXT NOT NULL,              -- the same for jobs that ask for the same
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
        outcome TEXT, -- of one that is done: done, no speech, incomplete or suspect
        options TEXT, -- JSON: all that it takes to do it again, or to write it out
        cuts TEXT, -- JSON: by which limits it was cut, so that it is cut the same again
        queued BIGINT, -- its priority, where workers are to take it; NULL for what others do
        made TEXT -- JSON: its requests in order, once every piece has been handed in
    )
    """,
    "CREATE INDEX job_by_identity ON job (identity)",
    "CREATE INDEX job_by_engine ON job (engine)",
    "CREATE INDEX job_by_state ON job (state)",
    "CREATE INDEX job_by_created ON job (created)",
    "CREATE INDEX job_by_changed ON job (changed)",
    *_WITH_OWNERS,
    """
    CREATE TABLE request (
        key TEXT PRIMARY KEY,
        state TEXT NOT NULL,
        owner TEXT,                          -- the process that deals with it
        engine TEXT,                         -- where it was sent last; NULL on this machine
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
    *_ROOM,
    *_STEMS,
    *_SERVED,
    _PAYMENTS,
    "CREATE TABLE reply (digest TEXT PRIMARY KEY, body BYTEA NOT NULL)",
    "CREATE TABLE call (id TEXT PRIMARY KEY, moment DOUBLE PRECISION NOT NULL)",
)

_SERIAL = {
    True: "INTEGER PRIMARY KEY",
    False: "BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY",
}


@dataclass(frozen=True, slots=True)
class Step:
    """What makes a ledger of a version one of the next.

    Attributes:
        statements: in order.
        readable_from: the oldest version whose programs can work with the result. Where it is not
            older than the step's own, the step waits until none of those lives.
    """

    statements: tuple[str, ...]
    readable_from: int


def prepare(database: Database, *, is_sqlite: bool, is_alive: Callable[[str], bool]) -> int | None:
    """Make the tables, or bring those of an older version up to this one; in one transaction.

    Args:
        database: of the ledger.
        is_sqlite: whether it is a file.
        is_alive: whether the process lives that signs so.

    Returns:
        The version that was found if this program cannot work with it; then nothing was changed.
        Else None.

    Raises:
        LedgerError: older programs live, and could not work with the tables of this one; nothing
            was changed.
    """
    # Looked at first, as a transaction waits for those of others, and most find nothing to do.
    if "ledger" in database.tables() and _version_in(database)[0] == VERSION:
        return None
    with database.transaction():
        database.lock("schema")
        if "ledger" not in database.tables():
            _create(database, is_sqlite=is_sqlite)
            _note_version(database, VERSION, _readable_from())
            return None
        found, readable_from = _version_in(database)
        if found > VERSION and readable_from <= VERSION:
            return None  # a newer program has added to it, and takes nothing away
        if not OLDEST <= found <= VERSION:
            return found
        if found < VERSION:
            _check_others(database, found, is_alive)
            _migrate(database, found)
            _note_version(database, VERSION, _readable_from())
        return None


def _version_in(database: Database) -> tuple[int, int]:
    """The version of a ledger, and the oldest one whose programs can work with it."""
    rows = database.execute("SELECT * FROM ledger")
    if not rows:
        return VERSION, VERSION
    version = int(rows[0]["version"])
    if version < _FIRST_SHARED:
        return version, version
    return version, int(rows[0]["readable_from"])


def _readable_from() -> int:
    """The oldest version whose programs can work with the tables of this one."""
    oldest = _FIRST_SHARED
    for version, step in _MIGRATIONS.items():
        if version >= _FIRST_SHARED:
            oldest = max(oldest, step.readable_from)
    return oldest


def _note_version(database: Database, version: int, readable_from: int) -> None:
    values = {"version": version, "readable_from": readable_from}
    database.execute("DELETE FROM ledger")
    database.execute(
        "INSERT INTO ledger (version, readable_from) VALUES (:version, :readable_from)", values
    )


def _check_others(database: Database, found: int, is_alive: Callable[[str], bool]) -> None:
    """See that nobody lives who could not work with the tables as they will be.

    Raises:
        LedgerError: somebody does.
    """
    if found < _FIRST_SHARED:
        return  # these did not say which version they know
    needed = max(_MIGRATIONS[version].readable_from for version in range(found, VERSION))
    older = [
        f"{row['host']} ({row['pid']}, version {row['program']})"
        for row in database.execute("SELECT * FROM process ORDER BY started")
        if (row["ledger"] or found) < needed and is_alive(row["owner"])
    ]
    if older:
        count = count_of(len(older), "program")
        raise LedgerError(
            f"{count} of an older version could not work with the ledger of this one: "
            f"{', '.join(older)}",
            where=database.where,
            advice="end them first (`mantisreed work --drain`), then start this version; nothing "
            "was changed",
        )


def _create(database: Database, *, is_sqlite: bool) -> None:
    database.script([statement.replace("{serial}", _SERIAL[is_sqlite]) for statement in _CREATE])


_UNCONFIRMED = "UPDATE {} SET {} = 'unconfirmed' WHERE {} = 'in doubt'"

_FROM_5 = (
    _PAYMENTS,
    "ALTER TABLE job ADD COLUMN outcome TEXT",
    "ALTER TABLE job ADD COLUMN identity TEXT NOT NULL DEFAULT ''",
    "UPDATE job SET identity = id",
    "CREATE INDEX job_by_identity ON job (identity)",
    "CREATE INDEX job_by_changed ON job (changed)",
    *(
        _UNCONFIRMED.format(table, column, column)
        for table, column in (
            ("job", "state"),
            ("request", "state"),
            ("attempt", "outcome"),
            ("follow_up", "state"),
            ("question", "state"),
        )
    ),
)

_FROM_6 = (
    "ALTER TABLE process ADD COLUMN seen DOUBLE PRECISION NOT NULL DEFAULT 0",
    "ALTER TABLE process ADD COLUMN host TEXT",
    "ALTER TABLE process ADD COLUMN pid INTEGER",
    "ALTER TABLE process ADD COLUMN program TEXT",
    *_WITH_OWNERS,
)

_FROM_7 = (
    "ALTER TABLE request ADD COLUMN engine TEXT",
    "ALTER TABLE process ADD COLUMN role TEXT",
    "ALTER TABLE process ADD COLUMN is_to_end INTEGER NOT NULL DEFAULT 0",
    "ALTER TABLE job ADD COLUMN queued BIGINT",
    *_ROOM,
)

_FROM_8 = (
    "ALTER TABLE ledger ADD COLUMN readable_from INTEGER NOT NULL DEFAULT 9",
    "ALTER TABLE process ADD COLUMN ledger INTEGER",
)

_FROM_9 = _STEMS

_FROM_10 = _SERVED

_FIRST_SHARED = 9
"""The first version whose programs know that a newer one may only have added to it."""

_MIGRATIONS = {
    5: Step(_FROM_5, 6),
    6: Step(_FROM_6, 7),
    7: Step(_FROM_7, 8),
    8: Step(_FROM_8, 9),
    9: Step(_FROM_9, 9),
    10: Step(_FROM_10, 9),
}
"""What makes a ledger of a version one of the next."""

OLDEST = min(_MIGRATIONS)
"""The oldest version that can be brought up to this one; no older one was ever released."""


def _migrate(database: Database, found: int) -> None:
    for version in range(found, VERSION):
        database.script(_MIGRATIONS[version].statements)
