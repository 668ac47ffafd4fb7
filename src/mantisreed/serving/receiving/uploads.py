"""Recordings on their way in: streamed to disk, and uploads that go on where they broke off.

As the draft of the IETF on resumable uploads has it: `HEAD` tells the offset that has come, `PATCH`
goes on there.
"""

import asyncio
import json
import os
import secrets
import shutil
import time
from collections.abc import AsyncIterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from mantisreed.errors import reason_of
from mantisreed.files import printable, write_whole
from mantisreed.folders import forget, opened, read
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


@dataclass(slots=True)
class Upload:
    """An upload that may be gone on with.

    Attributes:
        id: by which it is known.
        owner: the name of the token that began it.
        name: of the recording.
        length: bytes that it will have; None where nobody said.
        is_complete: whether all of it has come.
    """

    id: str
    owner: str
    name: str
    length: int | None
    is_complete: bool = False


class Uploads:
    """All uploads, each a folder of its own."""

    def __init__(self, folder: Path) -> None:
        make_folder(folder)
        self._folder = folder
        self._busy: set[str] = set()

    def begin(self, owner: str, name: str | None, length: int | None) -> Upload:
        """A new one, of which nothing has come."""
        self._clear_old()
        upload = Upload(secrets.token_hex(12), owner, file_name(name), length)
        make_folder(self._folder / upload.id)
        self.path(upload).touch()
        self._keep(upload)
        return upload

    def get(self, known: str, owner: str) -> Upload:
        """The upload with an id, of this owner.

        Raises:
            Problem: there is none.
        """
        file = self._folder / known / "about.json"
        if not known.isalnum() or not file.is_file():
            raise Problem(404, "there is no such upload")
        upload = Upload(**json.loads(read(file)))
        if upload.owner != owner:
            raise Problem(404, "there is no such upload")
        return upload

    def stored(self, owner: str) -> int:
        """Bytes of all that somebody has begun, without what nobody goes on with any more."""
        self._clear_old()
        total = 0
        for folder in self._folder.iterdir():
            with suppress(OSError, ValueError, Problem):  # another request has removed it
                total += self.offset(self.get(folder.name, owner))
        return total

    def path(self, upload: Upload) -> Path:
        """Where what has come is."""
        return self._folder / upload.id / "content"

    def offset(self, upload: Upload) -> int:
        """Bytes that have come."""
        return self.path(upload).stat().st_size

    async def take(
        self,
        upload: Upload,
        offset: int,
        blocks: AsyncIterator[bytes],
        most: int | None,
        *,
        is_last: bool,
    ) -> int:
        """Append what comes; gives the bytes that have come by now.

        Raises:
            Problem: it does not begin where the upload ends, is too large, or somebody else is at
                it.
        """
        if upload.id in self._busy:
            place = {"Upload-Offset": str(self.offset(upload))}
            raise Problem(409, "another request is at this upload", retry_after=1, headers=place)
        self._busy.add(upload.id)
        try:
            has = self.offset(upload)
            if offset != has or upload.is_complete:
                raise Problem(
                    409,
                    f"the upload goes on at {has}, not at {offset}",
                    headers={"Upload-Offset": str(has)},
                )
            most = upload.length if most is None or (upload.length or most) < most else most
            has = await written(self.path(upload), blocks, most, begun=has)
            if is_last and (upload.length is None or has == upload.length):
                upload.is_complete = True
                self._keep(upload)
            return has
        finally:
            self._busy.discard(upload.id)

    def put(self, upload: Upload, target: Path) -> None:
        """Have what has come at another place too, without a copy where the disk can do so.

        Raises:
            Problem: it cannot be written there.
        """
        try:
            with suppress(OSError):  # then it is copied
                os.link(self.path(upload), target)
                return
            shutil.copyfile(self.path(upload), target)
        except OSError as error:
            raise Problem(507, f"the recording cannot be written ({reason_of(error)})") from error

    def give_up(self, upload: Upload) -> None:
        """It is not wanted any more.

        Raises:
            Problem: somebody is at it.
        """
        if upload.id in self._busy:
            raise Problem(409, "another request is at this upload", retry_after=1)
        self.drop(upload)

    def drop(self, upload: Upload) -> None:
        """It is not wanted any more, or has become a job."""
        forget(self._folder / upload.id)

    def _keep(self, upload: Upload) -> None:
        about = {
            name: getattr(upload, name) for name in ("id", "owner", "name", "length", "is_complete")
        }
        write_whole(self._folder / upload.id / "about.json", json.dumps(about).encode())

    def _clear_old(self) -> None:
        for folder in self._folder.iterdir():
            with suppress(OSError):  # another request has removed it
                if time.time() - (folder / "content").stat().st_mtime > _OLD:
                    forget(folder)
