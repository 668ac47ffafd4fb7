"""How much of this machine's disk a token's recordings may take."""

import os
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

from mantisreed.serving.problems import Problem
from mantisreed.serving.receiving.uploads import Uploads


@dataclass(slots=True)
class Room:
    """What is stored for each token, and what is still coming.

    Attributes:
        folder: of the recordings, one for each job.
        uploads: that may be gone on with; they count as well.
        owner_of: whose job this is; None where there is no such job.
    """

    folder: Path
    uploads: Uploads
    owner_of: Callable[[str], str | None]
    _coming: dict[object, tuple[str, int]] = field(default_factory=dict)

    @asynccontextmanager
    async def taken(
        self, owner: str, most: int | None, wanted: int | None, limit: int | None
    ) -> AsyncIterator[int | None]:
        """Room for what is coming; it is given back, and what has come is stored, in the end.

        Args:
            owner: the token's name.
            most: bytes of one recording; None for any number.
            wanted: bytes that will come; None where nobody says: all that is left.
            limit: bytes that may be stored; None for no limit.

        Yields:
            Bytes that may come; None for any number.

        Raises:
            Problem: there is no room for it.
        """
        if limit is None:
            yield most
            return
        coming = sum(size for whose, size in self._coming.values() if whose == owner)
        left = limit - await self._stored(owner) - coming
        asked = min(one for one in (wanted, most, left) if one is not None)
        if left <= 0 or (wanted is not None and wanted > left):
            raise Problem(
                507,
                f"this token may store {limit} bytes, and {max(0, left)} are left",
                advice="forget jobs that have ended, or give uploads up",
            )
        known = object()
        self._coming[known] = owner, asked
        try:
            yield asked
        finally:
            del self._coming[known]

    async def _stored(self, owner: str) -> int:
        total = sum(size for job, size in _sizes(self.folder) if self.owner_of(job) == owner)
        return total + await self.uploads.stored(owner)


def _sizes(folder: Path) -> Iterator[tuple[str, int]]:
    """The folders in a folder, with the bytes of the files in each."""
    with suppress(OSError):  # it is not there yet
        for one in os.scandir(folder):
            with suppress(OSError):  # it went meanwhile
                files = os.scandir(one.path) if one.is_dir(follow_symlinks=False) else ()
                yield one.name, sum(file.stat(follow_symlinks=False).st_size for file in files)
