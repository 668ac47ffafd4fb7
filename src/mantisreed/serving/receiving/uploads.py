"""Recordings on their way in: streamed to disk, and uploads that go on where they broke off.

As the draft of the IETF on resumable uploads has it: `HEAD` tells the offset that has come, `PATCH`
goes on there.
"""

import asyncio
import os
import secrets
import shutil
from collections.abc import AsyncIterator
from contextlib import suppress
from pathlib import Path

from mantisreed.errors import reason_of
from mantisreed.files import printable
from mantisreed.folders import forget, opened
from mantisreed.jobs.store.served import Upload
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.incoming.shared_storage import SharedStorage
from mantisreed.serving.problems import Problem
from mantisreed.state import make_folder

_LONGEST_NAME = 120  # bytes
# Bytes that are gathered before they are written; fifty uploads at once are nothing unusual.
_BLOCK = 1 << 18
_OLD = 86_400.0  # seconds after which an upload that nobody goes on with is gone
_NO_ROOM = 64 << 20  # bytes that stay free on the disk


def file_name(given: str | None) -> str:
    """A name that a file can have, whatever was given: its last part, printable, not too long."""
    name = (given or "").replace("\\", "/").rpartition("/")[2]
    name = "".join(sign for sign in printable(name) if sign.isprintable()).strip(" .")
    stem, dot, ending = name.rpartition(".")
    while len(name.encode()) > _LONGEST_NAME:
        stem = stem[:-1] if dot else name[:-1]
        name = f"{stem}{dot}{ending}" if dot else stem
        if not stem:
            return "recording"
    return name or "recording"


async def written(
    path: Path, blocks: AsyncIterator[bytes], most: int | None, *, begun: int = 0
) -> int:
    """Append what comes to a file; gives its length. What was written stays when the sender breaks
    off.

    Raises:
        Problem: it is too large, or there is no room for it.
    """
    length, waiting = begun, bytearray()

    try:
        async for block in blocks:
            length += len(block)
            if most is not None and length > most:
                raise Problem(413, f"the recording is over {most} bytes")
            waiting += block
            if len(waiting) >= _BLOCK:
                await _put(path, bytes(waiting), is_last=False)
                waiting.clear()
                if shutil.disk_usage(path.parent).free < _NO_ROOM:
                    raise Problem(507, "there is no room for the recording on this machine")
    except Problem:
        raise  # it is not wanted, or there is no room for it
    except BaseException:
        # The sender may go on where it broke off: what has come is worth keeping, as far as that
        # can be done.
        with suppress(OSError):  # why it broke off is raised
            _append(path, bytes(waiting), is_last=True)
        raise
    await _put(path, bytes(waiting), is_last=True)
    return length


async def _put(path: Path, content: bytes, *, is_last: bool) -> None:
    """Append to a file.

    Raises:
        Problem: there is no room for it.
    """
    try:
        await asyncio.to_thread(_append, path, content, is_last=is_last)
    except OSError as error:
        raise Problem(507, f"the recording cannot be written ({reason_of(error)})") from error


def _append(path: Path, content: bytes, *, is_last: bool) -> None:
    with os.fdopen(opened(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT), "ab") as sink:
        sink.write(content)
        if is_last:
            sink.flush()
            os.fsync(sink.fileno())


class Uploads:
    """All uploads that may be gone on with. What has come is here; where the settings name a
    storage, in it too, so that any service goes on with it.
    """

    def __init__(
        self, folder: Path, writer: LedgerWriter, storage: SharedStorage | None = None
    ) -> None:
        """Know of nothing yet.

        Args:
            folder: where what has come is, a folder for each.
            writer: does things with the ledger.
            storage: where parts are put for other services; None for nowhere.
        """
        make_folder(folder)
        self._folder, self._writer, self._storage = folder, writer, storage
        self._busy: set[str] = set()

    async def begin(self, owner: str, name: str | None, length: int | None) -> Upload:
        """A new one, of which nothing has come."""
        await self._clear_old()
        upload = Upload(secrets.token_hex(12), owner, file_name(name), length)
        make_folder(self._folder / upload.id)
        self._path(upload).touch()
        await self._writer.perform(lambda ledger: ledger.uploads.begin(upload))
        return upload

    async def get(self, known: str, owner: str) -> Upload:
        """The upload with an id, of this owner, and how much of it has come.

        Raises:
            Problem: there is none.
        """
        upload = await self._writer.perform(lambda ledger: ledger.uploads.get(known))
        if upload is None or upload.owner != owner:
            raise Problem(404, "there is no such upload")
        with suppress(OSError):  # it has come to another machine
            # What a request was putting here that broke off counts too.
            upload.has = max(upload.has, self._path(upload).stat().st_size)
        return upload

    async def stored(self, owner: str) -> int:
        """Bytes of all that somebody has begun, without what nobody goes on with any more."""
        await self._clear_old()
        return await self._writer.perform(lambda ledger: ledger.uploads.stored(owner))

    async def take(
        self,
        upload: Upload,
        offset: int,
        blocks: AsyncIterator[bytes],
        most: int | None,
        *,
        is_last: bool,
    ) -> None:
        """Append what comes, and note how much has come by now.

        Raises:
            Problem: it does not begin where the upload ends, is too large, or somebody else is at
                it; or what has come before is not to be had here.
        """
        if upload.id in self._busy:
            place = {"Upload-Offset": str(upload.has)}
            raise Problem(409, "another request is at this upload", retry_after=1, headers=place)
        self._busy.add(upload.id)
        try:
            if offset != upload.has or upload.is_complete:
                goes_on = f"the upload goes on at {upload.has}, not at {offset}"
                raise Problem(
                    409,
                    "the upload is complete" if upload.is_complete else goes_on,
                    headers={"Upload-Offset": str(upload.has)},
                )
            path = await self._content(upload)
            # The smaller of what it said and what it may have.
            most = upload.length if most is None or (upload.length or most) < most else most
            try:
                upload.has = await written(path, blocks, most, begun=upload.has)
                is_whole = upload.length is None or upload.has == upload.length
                upload.is_complete = is_last and is_whole
            finally:
                await self._note(upload)
        finally:
            self._busy.discard(upload.id)

    async def put(self, upload: Upload, target: Path) -> None:
        """Have what has come at another place too, without a copy where the disk can do so.

        Raises:
            Problem: it cannot be written there, or is not to be had here.
        """
        path = await self._content(upload)
        await asyncio.to_thread(_put_at, path, target)

    async def give_up(self, upload: Upload) -> None:
        """It is not wanted any more.

        Raises:
            Problem: somebody is at it.
        """
        if upload.id in self._busy:
            raise Problem(409, "another request is at this upload", retry_after=1)
        await self.drop(upload)

    async def drop(self, upload: Upload) -> None:
        """It is not wanted any more, or has become a job."""
        await self._writer.perform(lambda ledger: ledger.uploads.end(upload.id))
        await asyncio.to_thread(self._remove, upload)

    def _path(self, upload: Upload) -> Path:
        return self._folder / upload.id / "content"

    async def _content(self, upload: Upload) -> Path:
        """The file of what has come, on this machine.

        Raises:
            Problem: it is not to be had here.
        """
        path = self._path(upload)
        if not path.exists() or path.stat().st_size < upload.has:
            if self._storage is not None:
                make_folder(path.parent)
                await asyncio.to_thread(self._storage.join, upload.id, path)
            if not path.exists() or path.stat().st_size < upload.has:
                raise Problem(
                    409,
                    "what has come of this upload is on another machine",
                    advice="begin it anew; with [storage], any service goes on with it",
                )
        return path

    async def _note(self, upload: Upload) -> None:
        """Note how much has come; where others may go on with it, first put it where they can."""
        path = self._path(upload)
        # As much as is on disk, also of a request that broke off.
        upload.has = path.stat().st_size
        if self._storage is not None:
            await asyncio.to_thread(self._storage.put_part, upload.id, path)
        await self._writer.perform(lambda ledger: ledger.uploads.extend(upload))

    async def _clear_old(self) -> None:
        for upload in await self._writer.perform(lambda ledger: ledger.uploads.old(_OLD)):
            if upload.id not in self._busy:
                await self.drop(upload)

    def _remove(self, upload: Upload) -> None:
        forget(self._folder / upload.id)
        if self._storage is not None:
            self._storage.remove_parts(upload.id)


def _put_at(content: Path, target: Path) -> None:
    try:
        with suppress(OSError):  # then it is copied
            os.link(content, target)
            return
        shutil.copyfile(content, target)
    except OSError as error:
        raise Problem(507, f"the recording cannot be written ({reason_of(error)})") from error
