"""All SQL of the ledger, but for the tables (`schema.py`). It runs on SQLite and PostgreSQL as it
stands.

Parameters are `:name`; `IN_LIST(:name)` stands for any of the texts in a JSON list, `CLOCK()` for
the seconds since 1970 by the clock that all processes share (see `database.py`). Conditions that
decide which of several processes may do something are inside the statements. `FOR UPDATE` is for
rows of which a change depends on what is read of them; a SQLite file has one writer anyway.
"""

# Processes
# ----------------------------------------------------------------------

REGISTER_PROCESS = """
INSERT INTO process (owner, started, seen, host, pid, program, role, ledger)
VALUES (:owner, CLOCK(), CLOCK(), :host, :pid, :program, :role, :ledger)
ON CONFLICT (owner) DO UPDATE SET seen = excluded.seen
"""
ALL_PROCESSES = "SELECT owner FROM process"
OTHER_PROCESSES = "SELECT owner FROM process WHERE owner <> :owner"
LEASE_IS_OVER = """
SELECT 1 AS found FROM process WHERE owner = :owner
    AND seen < extract(epoch FROM clock_timestamp()) - :lease
    AND pg_postmaster_start_time() < clock_timestamp() - make_interval(secs => :grace)
"""
"""While a server starts nobody can renew a lease: all of them get the time to do so."""
STRAY_OWNERS = """
SELECT DISTINCT owner FROM request WHERE owner IS NOT NULL
    AND owner <> :owner AND owner NOT IN (SELECT owner FROM process)
UNION SELECT DISTINCT owner FROM job WHERE owner IS NOT NULL
    AND owner <> :owner AND owner NOT IN (SELECT owner FROM process)
"""
"""Those that had claimed something after they were taken for dead."""
STRAY_REQUESTS = "SELECT * FROM request WHERE state = 'sending' AND owner IS NULL"
STRAYS_TO_CHANGE = f"{STRAY_REQUESTS} FOR UPDATE"
PROCESSES_WITH_JOBS = """
SELECT process.*, (SELECT count(*) FROM job WHERE job.owner = process.owner) AS jobs
FROM process ORDER BY started
"""
END_WORKERS = "UPDATE process SET is_to_end = 1 WHERE role = 'work' AND host = :host"
IS_TO_END = "SELECT is_to_end FROM process WHERE owner = :owner"
REMOVE_PROCESS = "DELETE FROM process WHERE owner = :owner"
JOBS_OF_PROCESS = "SELECT id, state FROM job WHERE owner = :owner FOR UPDATE"
REQUESTS_OF_PROCESS = "SELECT * FROM request WHERE owner = :owner FOR UPDATE"
RELEASE_REQUESTS_OF_PROCESS = "UPDATE request SET owner = NULL WHERE owner = :owner"
RELEASE_JOBS_OF_PROCESS = "UPDATE job SET owner = NULL WHERE owner = :owner"

# Jobs
# ----------------------------------------------------------------------

CREATE_JOB = """
INSERT INTO job (id, identity, recording, searchable, digest, engine, state, currency, created,
    changed)
VALUES (:id, :identity, :recording, :searchable, :digest, :engine, 'waiting', :currency, CLOCK(),
    CLOCK())
ON CONFLICT (id) DO NOTHING
"""
# A recording from the queue may be at a technical address by now: it keeps the name that it had.
OPEN_JOB = """
UPDATE job
SET recording = CASE WHEN queued IS NULL THEN :recording ELSE recording END,
    searchable = CASE WHEN queued IS NULL THEN :searchable ELSE searchable END,
    engine = :engine, currency = :currency, options = :options,
    identity = :identity, digest = :digest, state = :state, reason = NULL, outcome = NULL,
    changed = CLOCK(), owner = :owner
WHERE id = :id AND (owner IS NULL OR owner = :owner)
RETURNING id, cuts
"""
QUEUE_JOB = """
UPDATE job
SET recording = :recording, searchable = :searchable, engine = :engine, currency = :currency,
    options = :options, identity = :identity, digest = :digest, queued = :priority,
    state = 'waiting', reason = 'it is in the queue', outcome = NULL, changed = CLOCK()
WHERE id = :id AND owner IS NULL AND (state <> 'done' OR :again = 1)
RETURNING id
"""
CUTS_OF_JOB = """
SELECT cuts FROM job
WHERE identity = :identity AND EXISTS (
    SELECT 1 FROM piece JOIN request ON request.key = piece.request
    WHERE piece.job = job.id AND (request.reply IS NOT NULL OR request.state IN ('sending',
        'working', 'unconfirmed'))
)
ORDER BY created DESC LIMIT 1
"""
CLAIM_STEM = """
INSERT INTO stem (name, owner) VALUES (:name, :owner)
ON CONFLICT (name) DO NOTHING
RETURNING name
"""
OWNER_OF_STEM = "SELECT owner FROM stem WHERE name = :name"
KEEP_CUTS = "UPDATE job SET cuts = :cuts WHERE id = :id"
STATE_OF_JOB = "SELECT state, owner, made, queued FROM job WHERE id = :id"
JOB_TO_CHANGE = "SELECT state, owner, made FROM job WHERE id = :id FOR UPDATE"
SET_JOB = """
UPDATE job
SET state = :state, reason = :reason, changed = CLOCK(), owner = :owner, outcome = :outcome
WHERE id = :id
"""
QUEUED_JOBS = """
SELECT engine, sum(CASE WHEN owner IS NULL THEN 1 ELSE 0 END) AS waiting,
    sum(CASE WHEN owner IS NULL THEN 0 ELSE 1 END) AS working
FROM job
WHERE queued IS NOT NULL AND state IN ('waiting', 'sending', 'working', 'unconfirmed')
GROUP BY engine
"""
ENDED_LATELY = """
SELECT count(*) AS number FROM job
WHERE changed > CLOCK() - :seconds AND queued IS NOT NULL AND state IN ('done', 'failed')
"""
OPTIONS_OF_JOB = "SELECT options FROM job WHERE id = :id"
SET_OPTIONS = "UPDATE job SET options = :options WHERE id = :id"
SET_MADE = "UPDATE job SET made = :made, duration = :duration WHERE id = :id"
STATES_OF_REQUESTS = """
SELECT request.state FROM piece JOIN request ON request.key = piece.request
WHERE piece.job = :job AND piece.is_cancelled = 0
"""
JOB_WITH_UNANSWERED = """
SELECT job.state, job.owner, job.made, unanswered.request
FROM job LEFT JOIN (
    SELECT piece.job, piece.request FROM piece JOIN request ON request.key = piece.request
    WHERE piece.job = :id AND request.reply IS NULL
) AS unanswered ON unanswered.job = job.id
WHERE job.id = :id
"""
"""A row for each request that has no reply, and at least one."""
JOBS_OF_REQUEST = """
SELECT job.id, job.state FROM piece JOIN job ON job.id = piece.job
WHERE piece.request = :key AND piece.is_cancelled = 0
"""
JOBS_TO_CHANGE = f"{JOBS_OF_REQUEST} FOR UPDATE OF job"

# Pieces and requests
# ----------------------------------------------------------------------

ADD_PIECE = """
INSERT INTO piece (job, request, channel, starts, ends) VALUES (:job, :key, :channel, :starts,
    :ends)
ON CONFLICT (job, request) DO UPDATE SET is_cancelled = 0
"""
ADD_REQUEST = """
INSERT INTO request (key, state, owner, engine, token, sound, price)
SELECT :key, :state, :owner, :engine, :token, :sound, :price
WHERE EXISTS (SELECT 1 FROM process WHERE owner = :owner)
ON CONFLICT (key) DO NOTHING
RETURNING key
"""
"""Not for a process that was taken for dead: it has to note itself again first."""
_TAKEN = "(SELECT count(*) FROM request WHERE engine = :engine AND state = 'sending')"
_FIRST_WISH = """(
    SELECT owner FROM room_wish WHERE engine = :engine AND seen >= CLOCK() - :wish
    ORDER BY since, owner LIMIT 1
)"""
ADD_REQUEST_IN_ROOM = ADD_REQUEST.replace(
    "\nON CONFLICT",
    f"\n    AND {_TAKEN} < :most AND coalesce({_FIRST_WISH}, :owner) = :owner\nON CONFLICT",
)
"""The same where the engine has room for one more, and nobody else has waited for it longer."""
REQUEST = "SELECT * FROM request WHERE key = :key"
REQUEST_TO_CHANGE = "SELECT * FROM request WHERE key = :key FOR UPDATE"
CLAIM_REQUEST = """
UPDATE request SET owner = :owner, price = coalesce(CAST(:price AS TEXT), price)
WHERE key = :key AND (owner IS NULL OR owner = :owner)
RETURNING *
"""
RELEASE_REQUEST = "UPDATE request SET owner = NULL WHERE key = :key AND owner = :owner"
BEGIN_SENDING = """
UPDATE request
SET state = :state, reason = NULL, failure = NULL, ticket = NULL, mark = NULL, was_known = 0,
    token = :token, engine = :engine,
    unread = NULL, unread_step = NULL
WHERE key = :key AND owner = :owner AND state IN {states}
RETURNING key
"""
ANSWER_REQUEST = """
UPDATE request SET state = :state, reply = :reply, owner = NULL, reason = NULL
WHERE key = :key AND owner = :owner AND state = 'sending' AND reply IS NULL
RETURNING engine
"""
MOVE_REQUEST = """
UPDATE request
SET state = :state, reason = :reason, failure = :failure, ticket = :ticket, mark = :mark,
    was_known = :was_known,
    reply = :reply, unread = :unread, unread_step = :unread_step, owner = :owner
WHERE key = :key AND state = :before
RETURNING key
"""
KEEP_TICKET = "UPDATE request SET ticket = :ticket WHERE key = :key AND state = 'working'"
NOTE_KNOWN = "UPDATE request SET was_known = 1 WHERE key = :key AND was_known = 0"
OTHERS_WITH_MARK = "SELECT * FROM request WHERE mark = :mark AND key <> :key FOR UPDATE"
REQUEST_OF_TOKEN = "SELECT * FROM request WHERE token = :token"  # noqa: S105 - a column's name
PIECES_WITH_REQUEST = """
SELECT job, starts, ends FROM piece WHERE request = :key ORDER BY is_cancelled, job
"""

CANCEL_PIECES = "UPDATE piece SET is_cancelled = 1 WHERE job = :job"
REQUESTS_OF_JOB_ALONE = """
SELECT request.* FROM request JOIN piece ON piece.request = request.key
WHERE piece.job = :job AND NOT EXISTS (
    SELECT 1 FROM piece AS other
    WHERE other.request = piece.request AND other.job <> piece.job AND other.is_cancelled = 0
)
FOR UPDATE OF request
"""
"""Those that no other job waits for."""
JOBS_SHARING = """
SELECT DISTINCT other.job AS id FROM piece JOIN piece AS other ON other.request = piece.request
WHERE piece.job = :job AND other.job <> :job AND other.is_cancelled = 0 ORDER BY other.job
"""
FORGET_REQUESTS = """
UPDATE request SET ticket = NULL, token = NULL, unread = NULL, unread_step = NULL, sound = NULL
WHERE key IN_LIST(:keys)
"""
FORGET_REASONS = "UPDATE attempt SET error = NULL WHERE request IN_LIST(:keys)"

# Attempts
# ----------------------------------------------------------------------

BEGIN_ATTEMPT = """
INSERT INTO attempt (request, job, started, bytes, charge, price)
VALUES (:key, :job, CLOCK(), :bytes, 'open', :price)
RETURNING id
"""
END_ATTEMPT = """
UPDATE attempt
SET ended = CLOCK(), outcome = :outcome, error = :error, charge = :charge, billed = :billed,
    cost = :cost,
    reported_seconds = :reported_seconds, reported_cost = :reported_cost
WHERE id = :id
"""
OPEN_ATTEMPT = (
    "SELECT id FROM attempt WHERE request = :key AND ended IS NULL ORDER BY id DESC LIMIT 1"
)
DOUBTFUL_ATTEMPT = (
    "SELECT id FROM attempt WHERE request = :key AND charge = 'maybe' ORDER BY id DESC LIMIT 1"
)
SURE_ATTEMPT = (
    "SELECT id FROM attempt WHERE request = :key AND charge = 'sure' ORDER BY id DESC LIMIT 1"
)
REOPEN_ATTEMPT = (
    "UPDATE attempt SET ended = NULL, outcome = NULL, error = NULL, charge = 'open' WHERE id = :id"
)
COSTLY_ATTEMPTS_SINCE = """
SELECT id, job, price, cost FROM attempt WHERE id > :last AND charge <> 'none' ORDER BY id
"""
# What a job was asked for is kept as JSON, which is searched as text: only a retry with a spend
# limit does so.
JOBS_OF_BATCH = "SELECT id FROM job WHERE replace(options, :batch, '') <> options"

COSTLY_ATTEMPTS_OF_JOBS = """
SELECT id, job, price, cost FROM attempt WHERE job IN_LIST(:jobs) AND charge <> 'none'
"""

# Rate limits
# ----------------------------------------------------------------------

# A clock that was ahead once must not hold up everybody until that time comes.
FORGET_STARTS = """
DELETE FROM start
WHERE engine = :engine AND (moment < CLOCK() - :kept OR noted > CLOCK() + :slack)
"""
START_BEFORE = """
SELECT CLOCK() AS now, (
    SELECT moment FROM start WHERE engine = :engine ORDER BY moment DESC LIMIT 1 OFFSET :offset
) AS moment
"""
START_BEFORE_MOMENT = """
SELECT CLOCK() AS now, (
    SELECT moment FROM start WHERE engine = :engine
        AND moment <= :moment ORDER BY moment DESC LIMIT 1 OFFSET :offset
) AS moment
"""
ADD_START = "INSERT INTO start (engine, moment, noted) VALUES (:engine, :moment, CLOCK())"
REMOVE_START = "DELETE FROM start WHERE engine = :engine AND moment = :moment"
MOVE_START = """
UPDATE start SET moment = CLOCK()
WHERE engine = :engine AND moment = :moment AND moment < CLOCK()
"""

# Requests at once
# ----------------------------------------------------------------------

ROOM_OF_ENGINE = f"SELECT {_TAKEN} AS taken, {_FIRST_WISH} AS first"
WISH = """
INSERT INTO room_wish (engine, owner, since, seen) VALUES (:engine, :owner, CLOCK(), CLOCK())
ON CONFLICT (engine, owner) DO UPDATE SET seen = excluded.seen
"""
END_WISH = "DELETE FROM room_wish WHERE engine = :engine AND owner = :owner"
WAKE_FIRST_WISH = """
SELECT pg_notify(:channel || owner, :engine) FROM room_wish
WHERE engine = :engine AND seen >= CLOCK() - :wish
ORDER BY since, owner LIMIT 1
"""
"""Only where a process waits anything is told, and only to the one that comes first: a notice to
all would have all of them ask at once, and notices make commits wait for each other."""
FORGET_WISHES = "DELETE FROM room_wish WHERE seen < CLOCK() - :wish"

# Replies
# ----------------------------------------------------------------------

# One that is there is locked: nobody removes it before whoever needs it is noted.
KEEP_REPLY = """
INSERT INTO reply (digest, body) VALUES (:digest, :body)
ON CONFLICT (digest) DO UPDATE SET digest = excluded.digest
"""
REPLIES_TO_REMOVE = "SELECT digest FROM reply WHERE digest IN_LIST(:digests) FOR UPDATE"
REPLY = "SELECT body FROM reply WHERE digest = :digest"
REMOVE_REPLY = "DELETE FROM reply WHERE digest = :digest"
NEEDED_REPLIES = """
SELECT reply AS digest FROM request WHERE reply IN_LIST(:digests)
UNION SELECT unread FROM request WHERE unread IN_LIST(:digests)
UNION SELECT body FROM follow_up WHERE body IN_LIST(:digests)
UNION SELECT answer FROM question WHERE answer IN_LIST(:digests)
"""

# Follow-ups
# ----------------------------------------------------------------------

FOLLOW_UP = "SELECT * FROM follow_up WHERE id = :id"
CLAIM_FOLLOW_UP = """
INSERT INTO follow_up (id, job, name, state, owner, attempts, created, changed)
VALUES (:id, :job, :name, 'working', :owner, 1, CLOCK(), CLOCK())
ON CONFLICT (id) DO UPDATE SET state = 'working', owner = :owner, reason = NULL, changed = CLOCK(),
    attempts = follow_up.attempts + 1
"""
PUT_FOLLOW_UP_OFF = """
INSERT INTO follow_up (id, job, name, state, reason, created, changed)
VALUES (:id, :job, :name, 'waiting', :reason, CLOCK(), CLOCK())
ON CONFLICT (id) DO UPDATE SET state = 'waiting', reason = :reason, owner = NULL, changed = CLOCK()
"""
END_FOLLOW_UP = """
UPDATE follow_up SET state = :state, reason = :reason, owner = NULL, result = :result,
    body = :body, changed = CLOCK(),
    characters = follow_up.characters + :characters, cost = :cost, currency = :currency
WHERE id = :id
"""
FOLLOW_UPS_OF_JOB = "SELECT * FROM follow_up WHERE job = :job ORDER BY created, id"
JOBS_WITH_OPEN_FOLLOW_UPS = """
SELECT DISTINCT job FROM follow_up
WHERE state IN ('waiting', 'working', 'failed', 'unconfirmed') AND NOT EXISTS (
    SELECT 1 FROM follow_up AS later
    WHERE later.job = follow_up.job AND later.name = follow_up.name
        AND later.changed > follow_up.changed
)
"""
LEAVE_FOLLOW_UPS = """
UPDATE follow_up SET state = 'unconfirmed', owner = NULL, changed = CLOCK(),
    reason = 'the program ended while it was under way'
WHERE owner = :owner AND state = 'working'
"""
FORGET_FOLLOW_UPS = "DELETE FROM follow_up WHERE job = :job"
BODIES_OF_JOB = """
SELECT body AS digest FROM follow_up WHERE job = :job AND body IS NOT NULL
UNION SELECT answer FROM question WHERE job = :job AND answer IS NOT NULL
"""
# What it has cost stays; asked again, it is another question.
FORGET_QUESTIONS = """
UPDATE question SET key = key || :suffix, answer = NULL WHERE job = :job AND state <> 'sending'
"""
QUESTION = "SELECT * FROM question WHERE key = :key"
COSTLY_QUESTIONS = """
SELECT key, cost FROM question
WHERE job IN_LIST(:jobs) AND cost IS NOT NULL AND state IN ('done', 'unconfirmed', 'sending')
"""
QUESTIONS_ON_THEIR_WAY = """
SELECT count(*) AS taken FROM question WHERE service = :service AND state = 'sending'
"""
CLAIM_QUESTION = """
INSERT INTO question (key, service, job, state, owner, characters, cost, currency, asked)
VALUES (:key, :service, :job, 'sending', :owner, :characters, :cost, :currency, CLOCK())
ON CONFLICT (key) DO UPDATE SET state = 'sending', owner = :owner, asked = CLOCK(), job = :job,
    doubts = question.doubts + CASE WHEN question.state = 'unconfirmed' THEN 1 ELSE 0 END
"""
END_QUESTION = "UPDATE question SET state = :state, owner = NULL, answer = :answer WHERE key = :key"
LEAVE_QUESTIONS = (
    "UPDATE question SET state = 'unconfirmed', owner = NULL WHERE owner = :owner AND "
    "state = 'sending'"
)
SERVICE_SPENDING = """
SELECT service, asked, characters, cost, currency, state FROM question WHERE state IN ('done',
    'unconfirmed')
"""

# Callbacks
# ----------------------------------------------------------------------

FORGET_CALLS = "DELETE FROM call WHERE moment < CLOCK() - :kept"
ADD_CALL = (
    "INSERT INTO call (id, moment) VALUES (:id, CLOCK()) ON CONFLICT (id) DO NOTHING RETURNING id"
)

# Lists
# ----------------------------------------------------------------------

# What users see: of several follow-ups of one name, the last one counts.
SHOWN_STATE = """
CASE WHEN state <> 'done' THEN state
WHEN EXISTS (
    SELECT 1 FROM follow_up WHERE follow_up.job = job.id
        AND follow_up.state IN ('failed', 'unconfirmed') AND NOT EXISTS (
            SELECT 1 FROM follow_up AS later
            WHERE later.job = follow_up.job AND later.name = follow_up.name
                AND later.changed > follow_up.changed)
) THEN 'follow-up failed'
ELSE coalesce(outcome, 'done') END
"""
_MACHINE = "(SELECT host FROM process WHERE process.owner = job.owner)"
# In the order of the summary: to take 100 000 rows apart by name takes half a second.
_SUMMARY = (
    f"SELECT id, recording, digest, engine, state, {SHOWN_STATE} AS shown, "
    f"{_MACHINE} AS machine, reason, duration, created, changed, currency"
)
# And behind it, in the order of the record, what a list does without: more than all the rest.
_SHOWN_JOBS = _SUMMARY + ", identity, options, made FROM job "
_NEWEST_FIRST = "{where} ORDER BY created DESC, id {limit}"
JOBS = _SHOWN_JOBS + _NEWEST_FIRST
SUMMARIES_OF_JOBS = _SUMMARY + " FROM job " + _NEWEST_FIRST
COUNT_JOBS = "SELECT count(*) AS found FROM job {where}"
JOBS_BEGINNING = (
    _SHOWN_JOBS + "WHERE substr(id, 1, length(:beginning)) = :beginning ORDER BY id LIMIT 3"
)
PIECES_OF_JOBS = """
SELECT piece.job, piece.request, piece.ends - piece.starts AS seconds, piece.is_cancelled,
    CASE WHEN request.reply IS NULL THEN 0 ELSE 1 END AS is_answered
FROM piece JOIN request ON request.key = piece.request
WHERE piece.job IN_LIST(:jobs)
"""
ATTEMPTS_OF_JOBS = """
SELECT job, request, charge, billed, cost, price, reported_seconds, reported_cost FROM attempt
WHERE job IN_LIST(:jobs)
"""
PIECES_OF_JOB = """
SELECT piece.*, request.* FROM piece JOIN request ON request.key = piece.request
WHERE piece.job = :job ORDER BY piece.channel, piece.starts, piece.request
"""
ATTEMPTS_OF_REQUESTS = """
SELECT attempt.* FROM attempt JOIN piece ON piece.request = attempt.request
WHERE piece.job = :job ORDER BY attempt.id
"""
SPENDING = """
SELECT attempt.started, job.engine, job.currency, attempt.charge, attempt.billed, attempt.cost,
    attempt.price, attempt.reported_seconds, attempt.reported_cost
FROM attempt JOIN job ON job.id = attempt.job
WHERE attempt.charge IN ('sure', 'maybe')
UNION ALL
SELECT started, engine, currency, charge, billed, cost, price, reported_seconds, reported_cost
FROM payment
"""
NOTE_PAYMENT = """
INSERT INTO payment (started, engine, currency, billed, cost, price, charge, reported_seconds,
    reported_cost)
VALUES (:started, :engine, :currency, :billed, :cost, :price, :charge, :reported_seconds,
    :reported_cost)
"""
NOTE_PAID_QUESTION = """
INSERT INTO question (key, service, job, state, characters, cost, currency, asked)
VALUES (:key, :service, '', :state, :characters, :cost, :currency, :asked)
"""
SAVED_SECONDS = """
SELECT sum(piece.ends - piece.starts) AS seconds
FROM piece JOIN request ON request.key = piece.request
WHERE request.reply IS NOT NULL AND piece.is_cancelled = 0 AND NOT EXISTS (
    SELECT 1 FROM attempt
    WHERE attempt.request = piece.request AND attempt.job = piece.job AND attempt.charge = 'sure'
)
"""
