"""Several services in one folder: each works on its own orders, answers for all, and takes over
those of one that has ended.
"""

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

from mantisreed.files import cannot_write
from mantisreed.folders import check_no_link, forget
from mantisreed.state import make_folder


class Services:
    """Those that serve a folder now: each holds a lock that the system releases when it ends.

    Attributes:
        own: how this one signs its orders; empty before it has begun.
    """

    def __init__(self, folder: Path) -> None:
        """Show nothing yet; `folder` is where the locks are."""
        self._folder = folder
        self._lock: FileLock | None = None
        self.own = ""

    def begin(self) -> None:
        """Show that this one lives.

        Raises:
            OutputError: it cannot be shown.
        """
        make_folder(self._folder)
        own = secrets.token_hex(8)
        self._lock = self._lock_of(own)
        try:
            self._lock.acquire()
        except OSError as error:
            raise cannot_write(self._folder, error) from error
        self.own = own

    def end(self) -> None:
        """Show it no more."""
        if self._lock is not None:
            self._lock.release()
            forget(self._path_of(self.own))
            self._lock = None

    def is_there(self, service: str) -> bool:
        """Whether a service lives, this one included."""
        if service == self.own:
            return bool(service)
        path = self._path_of(service)
        if not service.isalnum() or not path.exists():
            return False
        lock = self._lock_of(service)
        try:
            lock.acquire(blocking=False)
        except Timeout:
            return True
        lock.release()
        forget(path)
        return False

    @property
    def has_others(self) -> bool:
        """Whether another one lives."""
        names = [path.stem for path in self._folder.glob("*.lock")]
        return any(name not in (self.own, _TURN) and self.is_there(name) for name in names)

    @contextmanager
    def turn(self) -> Iterator[None]:
        """Only one of them takes orders over at a time."""
        with self._lock_of(_TURN):
            yield

    def _lock_of(self, name: str) -> FileLock:
        try:
            return FileLock(check_no_link(self._path_of(name)), thread_local=False)
        except OSError as error:
            raise cannot_write(self._path_of(name), error) from error

    def _path_of(self, name: str) -> Path:
        return self._folder / f"{name}.lock"


_TURN = "turn"
