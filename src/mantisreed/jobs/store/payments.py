"""What was paid for runs of which nothing else is kept."""

import secrets
from collections.abc import Sequence
from dataclasses import dataclass

from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database, Row


@dataclass(frozen=True, slots=True)
class Payments:
    """What was paid to engines, a row for each attempt, and to text services, a row for each
    question.
    """

    engines: Sequence[Row]
    services: Sequence[Row]

    def __bool__(self) -> bool:
        """Whether anything was paid."""
        return bool(self.engines or self.services)


class PaymentStore:
    """The payments of one ledger."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def made(self) -> Payments:
        """What its jobs have cost, or may have cost."""
        return Payments(
            self._database.execute(statements.SPENDING),
            self._database.execute(statements.SERVICE_SPENDING),
        )

    def note(self, payments: Payments) -> None:
        """Note what the jobs of another ledger have cost, which is gone."""
        with self._database.transaction():
            for row in payments.engines:
                self._database.execute(statements.NOTE_PAYMENT, dict(row))
            for row in payments.services:
                # It has no text by which it could be found again.
                values = {**dict(row), "key": f"unkept {secrets.token_hex(16)}"}
                self._database.execute(statements.NOTE_PAID_QUESTION, values)
