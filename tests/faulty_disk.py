"""A disk on which nothing can be written any more, from some moment on or at one moment only.

All ways in which this program writes are counted: files that are opened to be written, made,
flushed, linked or moved, and every statement that changes a SQLite database.
"""

import builtins
import errno
import io
import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import pytest

_CHANGES = ("BEGIN", "INSERT", "UPDATE", "DELETE", "REPLACE", "CREATE", "COMMIT")
_WRITING = os.O_WRONLY | os.O_RDWR | os.O_CREAT


class FaultyDisk:
    """Counts writes, and lets some of them fail.

    Attributes:
        writes: what has been written, one word for each.
        fails_at: the number of the first write that fails, from 1; None for none.
        lasts: whether all behind it fail too, until `room`.
        error: what fails.
    """

    def __init__(self) -> None:
        self.writes: list[str] = []
        self.fails_at: int | None = None
        self.lasts = False
        self.error = errno.ENOSPC

    def fill(self, at: int, *, lasts: bool, error: int = errno.ENOSPC) -> None:
        """Let the write of this number fail from now on."""
        self.writes.clear()
        self.fails_at, self.lasts, self.error = at, lasts, error

    def room(self) -> None:
        """There is room again."""
        self.fails_at = None

    def write(self, what: str) -> None:
        """Count a write.

        Raises:
            OSError: it is one that fails.
        """
        self.writes.append(what)
        number = len(self.writes)
        if self.fails_at is not None and (
            number == self.fails_at or (self.lasts and number > self.fails_at)
        ):
            raise OSError(self.error, os.strerror(self.error))


@contextmanager
def faulty_disk(monkeypatch: pytest.MonkeyPatch) -> Iterator[FaultyDisk]:
    """Everything that this process writes goes to such a disk."""
    disk = FaultyDisk()

    def counted(name: str, work: Callable[..., Any]) -> Callable[..., Any]:
        def call(*arguments: Any, **named: Any) -> Any:
            disk.write(name)
            return work(*arguments, **named)

        return call

    really_open, os_open = io.open, os.open

    def opened(file: Any, mode: str = "r", *arguments: Any, **named: Any) -> Any:
        if any(sign in mode for sign in "wax+") and not isinstance(file, int):
            disk.write(f"open {mode}")
        return really_open(file, mode, *arguments, **named)

    def os_opened(path: Any, flags: int, *arguments: Any, **named: Any) -> int:
        if flags & _WRITING:
            disk.write("os.open")
        return os_open(path, flags, *arguments, **named)

    connect = sqlite3.connect
    connection = _connection(disk)
    with monkeypatch.context() as patch:
        patch.setattr(io, "open", opened)
        patch.setattr(builtins, "open", opened)
        patch.setattr(os, "open", os_opened)
        for name in ("fsync", "link", "replace", "rename", "mkdir", "utime"):
            patch.setattr(os, name, counted(name, getattr(os, name)))
        patch.setattr(
            sqlite3, "connect", lambda *given, **named: connect(*given, factory=connection, **named)
        )
        yield disk


def _connection(disk: FaultyDisk) -> type[sqlite3.Connection]:
    """Connections to databases that lie on such a disk."""

    class Connection(sqlite3.Connection):
        def execute(self, statement: str, *arguments: Any) -> sqlite3.Cursor:
            if statement.lstrip().upper().startswith(_CHANGES):
                try:
                    disk.write(statement.split()[0])
                except OSError as error:
                    raise sqlite3.OperationalError("database or disk is full") from error
            return super().execute(statement, *arguments)

    return Connection
