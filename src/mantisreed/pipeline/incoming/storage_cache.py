"""Recordings of the shared storage that this machine has fetched, so that a job that is tried again
does not fetch its recording again.
"""

import asyncio
import hashlib
import os
import posixpath
import time
from collections.abc import AsyncIterator, Iterator
from contextlib import asynccontextmanager, suppress
from pathlib import Path
from typing import IO, TYPE_CHECKING

from mantisreed.folders import forget, held, opened
from mantisreed.pipeline.incoming.shared_storage import RECORDINGS
from mantisreed.sources.local import local_file
from mantisreed.sources.recordings import Source
from mantisreed.state import make_folder
from mantisreed.units import parse_size
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.sources.fetching import FetchHooks

_FOLDER = "storage"
_DAY = 86400.0  # seconds after which a file that nobody uses is let go: it is somebody's voice


class StorageCache:
    """The files of one storage on this machine. The address of a recording there is that of its
    content, so that what is here is what is there.
    """

    def __init__(self, address: str, folder: Path, most_bytes: int) -> None:
        """Read nothing yet.

        Args:
            address: of the storage.
            folder: where the files are; it is made when there is something to keep.
            most_bytes: of all files together; 0 keeps none.
        """
        self._start = posixpath.join(address.rstrip("/"), RECORDINGS, "")
        self._folder, self._most_bytes = folder, most_bytes

    @classmethod
    def of(cls, workspace: Workspace) -> "StorageCache | None":
        """The cache of the storage that the settings name; None where they name none."""
        place = workspace.storage
        if place is None:
            return None
        return cls(place.url, workspace.hidden / _FOLDER, parse_size(place.cache))

    @asynccontextmanager
    async def file(
        self, recording: Source, folder: Path, hooks: "FetchHooks | None" = None
    ) -> AsyncIterator[Path]:
        """A recording as a file, as `local_file` gives it; fetched only where it is not here.

        Raises:
            RecordingError: it cannot be fetched, or is none.
        """
        name = self._name_of(recording)
        kept = None if name is None else self._opened(name)
        if kept is not None:
            with kept:
                yield _path_of(kept)
            return
        async with local_file(recording, folder, hooks) as path:
            if name is not None:
                await asyncio.to_thread(self._keep, path, name)
            yield path

    def forget(self, recording: Source) -> None:
        """Remove the file of a recording, if it is here."""
        if (name := self._name_of(recording)) is not None:
            forget(self._folder / name)

    def tidy(self) -> None:
        """Let go of what was not used for a day, and of the oldest where they are too many."""
        oldest = time.time() - _DAY
        room = self._most_bytes
        for used, size, file in sorted(self._files(), reverse=True):
            room -= size
            if room < 0 or used < oldest:
                forget(file)

    def _name_of(self, recording: Source) -> str | None:
        """The name of a recording's file; None for one that may change behind its address."""
        link = recording.link
        if link is None or not link.startswith(self._start) or not self._most_bytes:
            return None
        return hashlib.sha256(link.encode()).hexdigest()[:32]

    def _opened(self, name: str) -> IO[bytes] | None:
        """A file that is here, open: whoever lets go of it meanwhile takes nothing from us."""
        try:
            file = os.fdopen(opened(self._folder / name, os.O_RDONLY), "rb")
        except OSError:
            return None
        if not _path_of(file).exists():  # a system on which open files have no paths
            file.close()
            return None
        with suppress(OSError):  # it is another user's; then it goes with its age
            os.utime(file.fileno())
        return file

    def _keep(self, path: Path, name: str) -> None:
        """Keep a file that was fetched; one that cannot be kept is fetched again."""
        if path.stat().st_size <= self._most_bytes:
            make_folder(self._folder)
            with suppress(OSError):  # another process has, or this file system has no links
                _give_name(path, self._folder / name)
        self.tidy()

    def _files(self) -> Iterator[tuple[float, int, Path]]:
        """When each file was used last, how many bytes it has, and where it is."""
        with suppress(FileNotFoundError):  # nothing was kept so far
            for file in self._folder.iterdir():
                with suppress(OSError):  # it goes at this moment
                    found = file.stat()
                    yield found.st_mtime, found.st_size, file


def _give_name(path: Path, name: Path) -> None:
    """Give a name to an open file without one, by the path that opens it.

    Raises:
        OSError: it cannot have one.
    """
    with held(name.parent) as folder:
        # Without the first descriptor, links are not followed, whatever the last argument says.
        os.link(path, name.name, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=True)


def _path_of(file: IO[bytes]) -> Path:
    """A path that opens an open file."""
    return Path(f"/proc/{os.getpid()}/fd/{file.fileno()}")
