"""How many requests an engine takes at once, kept by all processes that share the ledger.

Requests that are on their way are counted, so that no place can be left taken: whatever ends a
request frees it, and so does the end of its process. Who waits for a place notes a wish, and the
process whose wish is the oldest comes first: a long run does not keep a short one out.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database

CHANNEL = "mantisreed_"
"""Before the name of a process: where it hears that an engine has room for it."""

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

    def add(self, room: Room | None, request: Mapping[str, Any]) -> bool:
        """Add a request that is on its way, which nobody has dealt with before, where there is room
        for it.

        Args:
            room: what its engine has room for; None for no limit.
            request: its columns.
        """
        if room is None:
            return bool(self._database.execute(statements.ADD_REQUEST, request))
        self._database.lock(f"room {room.engine}")  # or two processes could count the same
        values = {**request, "most": room.most, "wish": _WISH_SECONDS}
        if not self._database.execute(statements.ADD_REQUEST_IN_ROOM, values):
            return False
        self._end_wish(room)
        return True

    def take(self, room: Room) -> bool:
        """Whether one more request may be sent; it has to be noted in the same transaction."""
        self._database.lock(f"room {room.engine}")  # or two processes could count the same
        is_free, first = self._state(room)
        if is_free and first == self._owner:
            self._end_wish(room)
        return is_free

    def wake_next(self, engine: str | None) -> None:
        """Tell whoever waits for the engine longest that there may be a place; whoever hears
        nothing looks again by itself.

        Args:
            engine: its name; None for one that takes any number.
        """
        if engine is not None and self._database.has_notices:
            values = {"engine": engine, "wish": _WISH_SECONDS, "channel": CHANNEL}
            self._database.note(statements.WAKE_FIRST_WISH, values)

    def _end_wish(self, room: Room) -> None:
        values = {"engine": room.engine, "owner": self._owner}
        self._database.note(statements.END_WISH, values)
        self.wake_next(room.engine)  # there may be places for two

    def wish(self, room: Room) -> bool:
        """Ask for a place, to be repeated until there is one.

        Returns:
            Whether there is one now.
        """
        with self._database.transaction():
            self._database.note(statements.FORGET_WISHES, {"wish": _WISH_SECONDS})
            values = {"engine": room.engine, "owner": self._owner}
            self._database.note(statements.WISH, values)
            is_free, _ = self._state(room)
            return is_free

    def _state(self, room: Room) -> tuple[bool, str | None]:
        """Whether there is a place for this process, and whose wish is the oldest."""
        values = {"engine": room.engine, "wish": _WISH_SECONDS}
        (row,) = self._database.execute(statements.ROOM_OF_ENGINE, values)
        first: str | None = row["first"]
        return row["taken"] < room.most and first in (None, self._owner), first
