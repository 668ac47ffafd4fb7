"""Where machines without a shared folder have queued recordings and their outputs: `[storage]`."""

import hashlib
import os
import posixpath
import re
from dataclasses import replace
from pathlib import Path, PurePosixPath

from mantisreed.errors import InputError, RecordingError
from mantisreed.sources.recordings import STORAGE, Source
from mantisreed.workspace import Workspace

RECORDINGS = "recordings"
"""The folder of the storage that recordings are in."""

UPLOADS = "uploads"
"""The folder of the storage that parts of uploads are in."""

_MEANS_MORE = re.compile(r"[^\w.,() +-]")  # in an address, such as `::` before another storage


class SharedStorage:
    """The storage of the settings."""

    def __init__(self, address: str) -> None:
        """Ask for nothing yet."""
        self.address = address.rstrip("/")

    @classmethod
    def of(cls, workspace: Workspace) -> "SharedStorage | None":
        """The one that the settings name; None where they name none.

        Raises:
            TrustError: the settings are not trusted with it.
        """
        if workspace.storage is None:
            return None
        workspace.trust.require("writing")
        return cls(workspace.storage.url)

    def folder_for(self, into: str) -> str:
        """The address for outputs that were to go to a folder.

        Args:
            into: an address, which stays as it is, or a path below the settings' folder.

        Raises:
            InputError: the path leads elsewhere, which no other machine could follow.
        """
        if STORAGE.match(into):
            return into
        path = PurePosixPath(Path(into).as_posix())
        if path.is_absolute() or ".." in path.parts or path.parts[:1] == ("~",):
            raise InputError(
                "the outputs of queued recordings go into [storage]",
                where=f"--into {into}",
                advice="name a folder in it, such as --into 1998, or an address: "
                "--into s3://bucket/1998",
            )
        return posixpath.join(self.address, str(path))

    def put(self, recording: Source, digest: str) -> Source:
        """Put a recording there, once, and give the one that is there.

        Two machines may put the same one at the same time: its address is that of its content.

        Raises:
            RecordingError: it cannot be read, or not be written there.
        """
        from mantisreed.sources.storage import put_file  # takes long to import

        folder = digest.rpartition(":")[2][:32]
        address = posixpath.join(self.address, RECORDINGS, folder, _name_in_address(recording))
        try:
            put_file(recording.path, address)
        except InputError as error:
            raise RecordingError(error.what, where=recording.label, advice=error.advice) from error
        return replace(recording, path=Path(recording.name), link=address)

    def holds(self, recording: Source) -> bool:
        """Whether a recording is one that was put there."""
        start = posixpath.join(self.address, RECORDINGS, "")
        return recording.link is not None and recording.link.startswith(start)

    def put_part(self, upload: str, content: Path) -> None:
        """Put what has come of an upload, and is not there yet, as one more part.

        Raises:
            InputError: it cannot be read, or not be written there.
        """
        from mantisreed.sources.storage import listed, write_part  # takes long to import

        folder = posixpath.join(self.address, UPLOADS, upload)
        # What other machines have put there is not put again.
        begun = max((_end_of(name) for name in listed(folder)), default=0)
        end = content.stat().st_size
        if end > begun:
            write_part(content, begun, posixpath.join(folder, f"{begun}-{end}"))

    def join(self, upload: str, content: Path) -> None:
        """Have all parts of an upload in a file, which may have the first of them already.

        Raises:
            InputError: they cannot be read.
            OSError: they cannot be written.
        """
        from mantisreed.sources.storage import copy_stored, listed  # takes long to import

        folder = posixpath.join(self.address, UPLOADS, upload)
        for name in sorted(listed(folder), key=_begin_of):
            with content.open("ab") as sink:
                has = sink.tell()
                if _begin_of(name) <= has < _end_of(name):
                    copy_stored(posixpath.join(folder, name), has - _begin_of(name), sink)

    def remove_parts(self, upload: str) -> None:
        """Remove all parts of an upload.

        Raises:
            InputError: they cannot be removed.
        """
        from mantisreed.sources.storage import listed, remove_stored  # takes long to import

        folder = posixpath.join(self.address, UPLOADS, upload)
        for name in listed(folder):
            remove_stored(folder, name)

    def remove(self, recording: Source) -> None:
        """Remove a recording that was put there; one that is gone is no error.

        Raises:
            InputError: it cannot be removed.
        """
        from mantisreed.sources.storage import remove_stored  # takes long to import

        if recording.link is not None and self.holds(recording):
            remove_stored(recording.link)


def _begin_of(part: str) -> int:
    """Where in the upload a part begins: its name is `BEGIN-END`, in bytes."""
    return int(part.partition("-")[0])


def _end_of(part: str) -> int:
    return int(part.partition("-")[2])


def _name_in_address(recording: Source) -> str:
    """The name of a recording, without what would mean something else in an address. Other names
    that look alike then are told apart.
    """
    name = recording.path.name
    safe = _MEANS_MORE.sub("_", name)
    if safe == name:
        return name
    return f"{hashlib.sha256(os.fsencode(name)).hexdigest()[:8]}-{safe}"
