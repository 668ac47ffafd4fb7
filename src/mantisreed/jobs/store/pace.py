"""An engine's rate limit, kept exactly over a rolling window by all processes that share the
ledger.
"""

from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database

_LATE_SECONDS = 0.5  # at most, that a turn waits beyond the window
_CLOCK_SLACK = 5.0  # seconds by which a note may seem to come from the future


class PaceKeeper:
    """Gives out turns to start a request. All times are the database's, so that machines' clocks do
    not matter.
    """

    def __init__(self, database: Database) -> None:
        self._database = database

    def next_turn(self, engine: str, requests: int, window: float) -> tuple[float, float]:
        """Take the next turn of an engine.

        Args:
            engine: name of the card, without its profile.
            requests: so many may start,
            window: in any so many seconds.

        Returns:
            The moment of the turn, and the seconds until then.
        """
        with self._database.transaction():
            self._database.lock(f"pace {engine}")  # or two processes could take the same turn
            self._database.note(
                statements.FORGET_STARTS,
                {"engine": engine, "kept": 2 * window, "slack": _CLOCK_SLACK},
            )
            (before,) = self._database.execute(
                statements.START_BEFORE, {"engine": engine, "offset": requests - 1}
            )
            moment = now = float(before["now"])
            if before["moment"] is not None:
                moment = max(now, float(before["moment"]) + window + _late(window))
            self._database.note(statements.ADD_START, {"engine": engine, "moment": moment})
        return moment, moment - now

    def seconds_until(self, engine: str, moment: float, requests: int, window: float) -> float:
        """Seconds until a turn may really start: those before it may have started later than they
        were given.
        """
        (before,) = self._database.execute(
            statements.START_BEFORE_MOMENT, {"engine": engine, "moment": moment, "offset": requests}
        )
        due = moment
        if before["moment"] is not None:
            due = max(moment, float(before["moment"]) + window + _late(window))
        return due - float(before["now"])

    def give_back(self, engine: str, moment: float) -> None:
        """Let others have a turn that is not used."""
        self._database.note(statements.REMOVE_START, {"engine": engine, "moment": moment})

    def started(self, engine: str, moment: float) -> None:
        """Note that a turn's request starts now, which is a little later than its moment."""
        self._database.note(statements.MOVE_START, {"engine": engine, "moment": moment})


def _late(window: float) -> float:
    """Seconds that are waited beyond the window: a request arrives a moment after its start was
    noted.
    """
    return min(_LATE_SECONDS, window / 100)
