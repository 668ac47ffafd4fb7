"""Outputs in a storage: a folder in the hidden folder is their local copy, and a file in it says
where they go.
"""

import hashlib
from pathlib import Path
from typing import Any

from mantisreed.errors import InputError, OutputError, reason_of
from mantisreed.files import folder_at, printable, write_whole
from mantisreed.folders import HIDDEN_FOLDER, read
from mantisreed.sources.recordings import STORAGE
from mantisreed.state import make_folder

_COPIES = "stored"
_ADDRESS_FILE = ".address"


def local_folder(base: Path, hidden: Path, into: str) -> Path:
    """The folder in which outputs are written: the one that is given, or the local copy of a
    storage.

    Args:
        base: that a relative path starts in.
        hidden: the workspace's hidden folder.
        into: a path, or an address of a storage.

    Raises:
        OutputError: the local copy cannot be made.
    """
    if not STORAGE.match(into):
        return folder_at(base, into)
    address = into.rstrip("/")
    name = hashlib.sha256(address.encode()).hexdigest()[:16]
    folder = hidden / _COPIES / name
    if _address_of(folder) != address:
        make_folder(folder)
        write_whole(folder / _ADDRESS_FILE, address.encode())
    return folder


def shown_folder(folder: Path) -> str:
    """Where outputs are, for people."""
    return printable(_address_of(folder) or folder)


def _address_of(folder: Path) -> str | None:
    """The address that a local copy is of; None for any other folder."""
    if folder.parent.name != _COPIES or folder.parent.parent.name != HIDDEN_FOLDER:
        return None
    try:
        return read(folder / _ADDRESS_FILE).decode()
    except (OSError, UnicodeDecodeError):
        return None


class StoredOutputs:
    """The outputs in one folder of a storage."""

    def __init__(self, address: str) -> None:
        """Ask for nothing yet."""
        self._address = address
        self._names: set[str] | None = None

    @classmethod
    def behind(cls, folder: Path) -> "StoredOutputs | None":
        """Those of which a folder is the local copy; None where it is none."""
        address = _address_of(folder)
        if address is None:
            return None
        return cls(address)

    @property
    def address(self) -> str:
        """Of the folder."""
        return self._address

    def holds(self, name: str) -> bool:
        """Whether a file of this name was there when it was first looked at.

        Raises:
            OutputError: the storage cannot be asked.
        """
        if self._names is None:
            self._names = self._listed()
        return name in self._names

    def place(self, name: str) -> str:
        """The address of a file."""
        return f"{self._address}/{name}"

    def get(self, name: str) -> bytes | None:
        """A file's content; None where there is no such file.

        Raises:
            OutputError: it cannot be read.
        """
        from mantisreed.sources.storage import read_stored  # takes long to import

        try:
            return read_stored(self._address, name)
        except InputError as error:
            raise OutputError(error.what, where=error.where, advice=error.advice) from error

    def put(self, name: str, content: bytes) -> None:
        """Put a file there, whole.

        Raises:
            OutputError: it cannot be written.
        """
        from mantisreed.sources.storage import write_stored  # takes long to import

        try:
            write_stored(self._address, name, content)
        except InputError as error:
            raise OutputError(error.what, where=error.where, advice=error.advice) from error

    def remove(self, name: str) -> None:
        """Remove a file; one that is not there is no error.

        Raises:
            OutputError: it cannot be removed.
        """
        from mantisreed.sources.storage import remove_stored  # takes long to import

        try:
            remove_stored(self._address, name)
        except InputError as error:
            raise OutputError(error.what, where=error.where, advice=error.advice) from error

    def _listed(self) -> set[str]:
        files, path = self._opened()
        try:
            return {str(found).rpartition("/")[2] for found in files.ls(path, detail=False)}
        except FileNotFoundError:
            return set()
        except Exception as error:  # each file system has errors of its own
            what = f"cannot be listed ({reason_of(error)})"
            raise OutputError(what, where=printable(self._address)) from error

    def _opened(self) -> tuple[Any, str]:
        from mantisreed.sources.storage import opened  # takes long to import

        try:
            files, path, _ = opened(self._address)
        except InputError as error:
            raise OutputError(error.what, where=error.where, advice=error.advice) from error
        return files, path
