"""Engines' callbacks, as the ledger knows them: whose a token is, and which calls were taken."""

import hashlib

from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database, Row

_KEPT_SECONDS = 24 * 3600.0  # calls are refused by their age long before


class CallRegister:
    """Tokens that were given to engines, and calls by their ids."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def request_of(self, token: str) -> Row | None:
        """The request whose engine was given this token; None when there is none."""
        rows = self._database.execute(statements.REQUEST_OF_TOKEN, {"token": token_digest(token)})
        return rows[0] if rows else None

    def take(self, call: str) -> bool:
        """Note a call by its id; False when it was noted before."""
        with self._database.transaction():
            self._database.note(statements.FORGET_CALLS, {"kept": _KEPT_SECONDS})
            return bool(self._database.execute(statements.ADD_CALL, {"id": call}))


def token_digest(token: str) -> str:
    """A token as it is kept: whoever reads the ledger cannot call back with it."""
    return hashlib.sha256(token.encode()).hexdigest()
