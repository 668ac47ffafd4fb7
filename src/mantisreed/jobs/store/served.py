"""What services were asked for and by whom, for all services on the ledger. What it says is theirs
to read: here it is bytes.
"""

import json
from collections.abc import Iterable
from dataclasses import dataclass

from mantisreed.jobs.store.database import Database, Row

_ADD = """
INSERT INTO served (id, owner, key, changed, body) VALUES (:id, :owner, :key, CLOCK(), :body)
ON CONFLICT DO NOTHING
RETURNING id
"""
_ALL = "SELECT * FROM served"
_SOME = "SELECT * FROM served WHERE id IN_LIST(:ids)"
_WITH_KEY = "SELECT * FROM served WHERE owner = :owner AND key = :key"
_TO_CHANGE = "SELECT * FROM served WHERE id IN_LIST(:ids) ORDER BY id FOR UPDATE"
_CHANGED = """
SELECT '' AS id, 0 AS number, CLOCK() AS now
UNION ALL SELECT id, number, 0.0 FROM served WHERE changed > :since
"""
_CHANGE = """
UPDATE served SET body = :body, number = number + 1, changed = CLOCK() WHERE id = :id
"""
_FORGET = """
UPDATE served SET body = NULL, key = NULL, cost = :cost, number = number + 1, changed = CLOCK()
WHERE id = :id
"""
_BEGIN_UPLOAD = """
INSERT INTO upload (id, owner, name, length, changed) VALUES (:id, :owner, :name, :length, CLOCK())
"""
_UPLOAD = "SELECT * FROM upload WHERE id = :id"
_EXTEND_UPLOAD = """
UPDATE upload SET has = :has, is_complete = :is_complete, changed = CLOCK()
WHERE id = :id AND has <= :has
"""
_END_UPLOAD = "DELETE FROM upload WHERE id = :id"
_UPLOADED = "SELECT coalesce(sum(has), 0) AS bytes FROM upload WHERE owner = :owner"
_OLD_UPLOADS = "SELECT * FROM upload WHERE changed < CLOCK() - :seconds"
_USERS = "SELECT body FROM token ORDER BY name"
_ADD_USER = """
INSERT INTO token (name, body) VALUES (:name, :body) ON CONFLICT DO NOTHING RETURNING name
"""
_REMOVE_USER = "DELETE FROM token WHERE name = :name RETURNING name"
_ADD_KEY = "INSERT INTO signing (name, value) VALUES (:name, :value) ON CONFLICT DO NOTHING"
_KEY = "SELECT value FROM signing WHERE name = :name"


@dataclass(frozen=True, slots=True)
class Served:
    """What a service was asked for, as it is kept.

    Attributes:
        id: of the job.
        owner: the name of the token that sent it.
        number: of its last change.
        cost: of one that is forgotten.
        body: what it says; None of one that is forgotten.
    """

    id: str
    owner: str
    number: int
    cost: float
    body: bytes | None


class ServedStore:
    """All that services were asked for."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def all(self) -> list[Served]:
        """Everything, also what is forgotten."""
        return list(map(_of_row, self._database.execute(_ALL)))

    def some(self, ids: Iterable[str]) -> list[Served]:
        """Those with these IDs."""
        return list(map(_of_row, self._database.execute(_SOME, _listed(ids))))

    def with_key(self, owner: str, key: str) -> Served | None:
        """The one that a token has sent with an idempotency key."""
        rows = self._database.execute(_WITH_KEY, {"owner": owner, "key": key})
        return _of_row(rows[0]) if rows else None

    def numbers(self, since: float) -> tuple[dict[str, int], float]:
        """The numbers of those that were changed since a moment of the ledger's clock, by their
        IDs, and what that clock says now. A change counts from when it was made, which may be a
        moment before anybody sees it.
        """
        rows = self._database.execute(_CHANGED, {"since": since})
        now = max(float(row["now"]) for row in rows)
        return {row["id"]: int(row["number"]) for row in rows if row["id"]}, now

    def add(self, known: str, owner: str, key: str | None, body: bytes) -> bool:
        """Keep a new one; False where the token has sent one with this idempotency key before."""
        values = {"id": known, "owner": owner, "key": key, "body": body}
        with self._database.transaction():
            return bool(self._database.execute(_ADD, values))

    def to_change(self, ids: Iterable[str]) -> list[Served]:
        """Those with these IDs that are not forgotten; nobody else changes them until the
        transaction has ended.
        """
        found = map(_of_row, self._database.execute(_TO_CHANGE, _listed(ids)))
        return [one for one in found if one.body is not None]

    def change(self, known: str, body: bytes) -> None:
        """Have one say something else, in a transaction."""
        self._database.note(_CHANGE, {"id": known, "body": body})

    def forget(self, known: str, cost: float) -> int | None:
        """Keep no more of one than what it has cost; gives its number then, None where it was
        forgotten before.
        """
        with self._database.transaction():
            for row in self.to_change([known]):
                self._database.note(_FORGET, {"id": known, "cost": cost})
                return row.number + 1
        return None


@dataclass(slots=True)
class Upload:
    """A recording that comes in several parts.

    Attributes:
        id: by which it is known.
        owner: the name of the token that began it.
        name: of the recording.
        length: bytes that it will have; None where nobody said.
        has: bytes that have come.
        is_complete: whether all of it has come.
    """

    id: str
    owner: str
    name: str
    length: int | None
    has: int = 0
    is_complete: bool = False


class UploadStore:
    """All uploads that may be gone on with."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def begin(self, upload: Upload) -> None:
        """Keep a new one."""
        values = {"id": upload.id, "owner": upload.owner, "name": upload.name}
        with self._database.transaction():
            self._database.note(_BEGIN_UPLOAD, {**values, "length": upload.length})

    def get(self, known: str) -> Upload | None:
        """The one with this ID."""
        rows = self._database.execute(_UPLOAD, {"id": known})
        return _upload_of(rows[0]) if rows else None

    def extend(self, upload: Upload) -> None:
        """Note how much of it has come by now."""
        values = {"id": upload.id, "has": upload.has, "is_complete": int(upload.is_complete)}
        with self._database.transaction():
            self._database.note(_EXTEND_UPLOAD, values)

    def end(self, known: str) -> None:
        """Keep it no more."""
        with self._database.transaction():
            self._database.note(_END_UPLOAD, {"id": known})

    def stored(self, owner: str) -> int:
        """Bytes of all that a token has begun."""
        (row,) = self._database.execute(_UPLOADED, {"owner": owner})
        return int(row["bytes"])

    def old(self, seconds: float) -> list[Upload]:
        """Those that nobody has gone on with for so long."""
        return list(map(_upload_of, self._database.execute(_OLD_UPLOADS, {"seconds": seconds})))


class TokenRows:
    """Who may use the services, and what these sign addresses with."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def all(self) -> list[bytes]:
        """What is known of each token, by name."""
        return [bytes(row["body"]) for row in self._database.execute(_USERS)]

    def add(self, name: str, body: bytes) -> bool:
        """Keep a token; False where the name is taken."""
        with self._database.transaction():
            return bool(self._database.execute(_ADD_USER, {"name": name, "body": body}))

    def remove(self, name: str) -> bool:
        """Remove a token; False where there is none of this name."""
        with self._database.transaction():
            return bool(self._database.execute(_REMOVE_USER, {"name": name}))

    def key(self, name: str, new: str) -> str:
        """The key of this name, which is `new` where there was none."""
        with self._database.transaction():
            self._database.execute(_ADD_KEY, {"name": name, "value": new})
            (row,) = self._database.execute(_KEY, {"name": name})
        return str(row["value"])


def _listed(ids: Iterable[str]) -> dict[str, str]:
    return {"ids": json.dumps(sorted(ids))}


def _upload_of(row: Row) -> Upload:
    length = row["length"]
    return Upload(
        row["id"],
        row["owner"],
        row["name"],
        None if length is None else int(length),
        int(row["has"]),
        bool(row["is_complete"]),
    )


def _of_row(row: Row) -> Served:
    body = row["body"]
    return Served(
        row["id"],
        row["owner"],
        int(row["number"]),
        float(row["cost"]),
        None if body is None else bytes(body),
    )
