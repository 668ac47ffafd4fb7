"""Several services in one folder: each works on its own orders, answers for all, and takes over
those of one that has ended.
"""

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mantisreed.jobs.store.lock_files import LockFiles

_TURN = "turn"


class Services:
    """Those that serve a folder now: each holds a lock that the system releases when it ends.

    Attributes:
        own: how this one signs its orders; empty before it has begun.
    """

    def __init__(self, folder: Path) -> None:
        """Show nothing yet; `folder` is where the locks are."""
        self._files = LockFiles(folder)
        self.own = ""

    def begin(self) -> None:
        """Show that this one lives.

        Raises:
            OutputError: it cannot be shown.
        """
        own = secrets.token_hex(8)
        self._files.hold(own)
        self.own = own

    def end(self) -> None:
        """Show it no more."""
        self._files.release(self.own)

    def is_there(self, service: str) -> bool:
        """Whether a service lives, this one included."""
        if service == self.own:
            return bool(service)
        return service.isalnum() and self._files.is_held(service)

    @property
    def has_others(self) -> bool:
        """Whether another one lives."""
        return any(self.is_there(name) for name in self.traces())

    def traces(self) -> set[str]:
        """Other services that live, or that have ended without a word."""
        return self._files.names() - {self.own, _TURN}

    @contextmanager
    def turn(self) -> Iterator[None]:
        """Only one of them takes orders over at a time."""
        with self._files.lock(_TURN):
            yield
