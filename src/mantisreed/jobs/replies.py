"""Kept replies, to the byte, under the digest of their content: small ones in the database, large
ones as files.
"""

import json
from pathlib import Path

from mantisreed.errors import MantisreedError
from mantisreed.files import bytes_digest, printable, write_whole
from mantisreed.folders import forget, read
from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database
from mantisreed.state import make_folder

NOTHING = "nothing"
"""Stands for the digest of a reply that says that nothing was heard."""


class ReplyLostError(MantisreedError):
    """Somebody has removed or changed a kept reply."""


class ReplyStore:
    """The replies of one ledger."""

    def __init__(self, folder: Path, database: Database) -> None:
        """`folder` is the workspace's hidden folder."""
        self._folder = folder / "replies"
        self._database = database

    def digest_of(self, body: bytes | None) -> str:
        """By what a reply is kept."""
        if body is None:
            return NOTHING
        return bytes_digest([body])

    def keep(self, body: bytes | None) -> str:
        """Keep a reply; gives its digest. In the database it is on disk with the transaction, as a
        file at once.
        """
        if body is None:
            return NOTHING
        digest = self.digest_of(body)
        if len(body) <= self._database.largest_reply:
            # It is on disk with the same commit as the state of its request.
            self._database.note(statements.KEEP_REPLY, {"digest": digest, "body": body})
        else:
            path = self._path_of(digest)
            make_folder(path.parent)
            write_whole(path, body)
        return digest

    def read(self, digest: str) -> bytes | None:
        """A kept reply; None when it says that nothing was heard.

        Raises:
            ReplyLostError: it is gone, or not what was kept.
        """
        if digest == NOTHING:
            return None
        rows = self._database.execute(statements.REPLY, {"digest": digest})
        path = self._path_of(digest)
        where = self._database.where if rows else printable(path)
        try:
            body = bytes(rows[0]["body"]) if rows else read(path)
        except OSError as error:
            raise ReplyLostError("a kept reply is gone", where=where) from error
        if bytes_digest([body]) != digest:
            raise ReplyLostError("a kept reply was changed", where=where)
        return body

    def remove_if_unneeded(self, digests: set[str]) -> list[Path]:
        """Remove replies that no request needs any more, as a part of a transaction.

        Returns:
            Files to be removed once it is committed: before, a rollback could not bring them back.
        """
        values = {"digests": json.dumps(sorted(digests))}
        # Whoever keeps one of them at this moment comes first, and is seen below.
        self._database.note(statements.REPLIES_TO_REMOVE, values)
        rows = self._database.execute(statements.NEEDED_REPLIES, values)
        unneeded = sorted(digests - {NOTHING} - {row["digest"] for row in rows})
        for digest in unneeded:
            self._database.note(statements.REMOVE_REPLY, {"digest": digest})
        return list(map(self._path_of, unneeded))

    def discard(self, digest: str) -> None:
        """Remove a reply that is not what was kept, so that the same bytes can be kept again."""
        self._database.execute(statements.REMOVE_REPLY, {"digest": digest})
        if digest != NOTHING:
            forget(self._path_of(digest))

    def _path_of(self, digest: str) -> Path:
        name = digest.removeprefix("sha256:")
        return self._folder / name[:2] / f"{name[2:]}.reply"
