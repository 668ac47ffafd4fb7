"""Files that living processes hold locked: the system lets go of them when a process ends."""

from pathlib import Path

from filelock import FileLock, Timeout

from mantisreed.files import cannot_write
from mantisreed.folders import check_no_link, forget
from mantisreed.state import make_folder


class LockFiles:
    """A folder with a file for each process that shows itself there."""

    def __init__(self, folder: Path) -> None:
        """Show nothing yet."""
        self._folder = folder
        self._held: dict[str, FileLock] = {}

    def hold(self, name: str) -> None:
        """Show from now on that whoever has this name lives; once is enough.

        Raises:
            OutputError: it cannot be shown.
        """
        if name in self._held:
            return
        make_folder(self._folder)
        lock = self.lock(name)
        try:
            lock.acquire()
        except OSError as error:
            raise cannot_write(self._path_of(name), error) from error
        self._held[name] = lock

    def release(self, name: str) -> None:
        """Show it no more."""
        lock = self._held.pop(name, None)
        if lock is not None:
            lock.release()
            forget(self._path_of(name))

    def is_held(self, name: str) -> bool:
        """Whether another process holds a file; one that nobody holds is removed."""
        path = self._path_of(name)
        if not path.exists():
            return False
        lock = self.lock(name)
        try:
            lock.acquire(blocking=False)
        except Timeout:
            return True
        lock.release()
        forget(path)
        return False

    def names(self) -> set[str]:
        """Those that hold a file, or have left one."""
        return {path.stem for path in self._folder.glob("*.lock")}

    def lock(self, name: str) -> FileLock:
        """The lock of a file, not taken yet.

        Raises:
            OutputError: something is in its place.
        """
        # Not bound to a thread: it may be taken on one and let go on another.
        try:
            return FileLock(check_no_link(self._path_of(name)), thread_local=False)
        except OSError as error:
            raise cannot_write(self._path_of(name), error) from error

    def _path_of(self, name: str) -> Path:
        return self._folder / f"{name}.lock"
