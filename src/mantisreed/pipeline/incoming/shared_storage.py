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

    def remove(self, recording: Source) -> None:
        """Remove a recording that was put there; one that is gone is no error.

        Raises:
            InputError: it cannot be removed.
        """
        from mantisreed.sources.storage import remove_stored  # takes long to import

        if recording.link is not None and self.holds(recording):
            remove_stored(recording.link)


def _name_in_address(recording: Source) -> str:
    """The name of a recording, without what would mean something else in an address. Other names
    that look alike then are told apart.
    """
    name = recording.path.name
    safe = _MEANS_MORE.sub("_", name)
    if safe == name:
        return name
    return f"{hashlib.sha256(os.fsencode(name)).hexdigest()[:8]}-{safe}"
