"""How many requests an engine takes at once, kept by all processes that share the ledger.

Requests that are on their way are counted, so that no place can be left taken: whatever ends a
request frees it, and so does the end of its process. Who waits for a place notes a wish, and the
process whose wish is the oldest comes first: a long run does not keep a short one out.
"""

from dataclasses import dataclass

from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database

_WISH_SECONDS = 2.0  # a wish that was not repeated for so long is nobody's any more


@dataclass(frozen=True, slots=True)
class Room:
    """What an engine has room for.

    Attributes:
        engine: name of its card, without its profile.
        most: requests at once.
    """

    engine: str
    most: int


class RoomKeeper:
    """Gives the places of engines to requests of this process."""

    def __init__(self, database: Database, owner: str) -> None:
        self._database, self._owner = database, owner

    def take(self, room: Room) -> bool:
        """Whether one more request may be sent; it has to be noted in the same transaction."""
        row = self._state(room)
        if row["taken"] >= room.most:
            return False
        # Few wait, and the clock of a server is one more question to it.
        if row["wishes"]:
            if self._is_others_turn(room):
                return False
            values = {"engine": room.engine, "owner": self._owner}
            self._database.execute(statements.END_WISH, values)
        return True

    def wish(self, room: Room) -> bool:
        """Ask for a place, to be repeated until there is one.

        Returns:
            Whether there is one now.
        """
        with self._database.transaction():
            now = self._database.now()
            self._database.execute(statements.FORGET_WISHES, {"oldest": now - _WISH_SECONDS})
            values = {"engine": room.engine, "owner": self._owner, "now": now}
            self._database.execute(statements.WISH, values)
            return self._state(room)["taken"] < room.most and not self._is_others_turn(room)

    def _state(self, room: Room) -> dict[str, int]:
        (row,) = self._database.execute(statements.ROOM_OF_ENGINE, {"engine": room.engine})
        return dict(row)

    def _is_others_turn(self, room: Room) -> bool:
        oldest = self._database.now() - _WISH_SECONDS
        values = {"engine": room.engine, "oldest": oldest}
        first = self._database.execute(statements.OLDEST_WISH, values)
        return bool(first) and first[0]["owner"] != self._owner
