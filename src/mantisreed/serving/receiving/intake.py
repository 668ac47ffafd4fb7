"""What comes with `POST /jobs`: a recording in a form, in the body, as a link, a path or an upload;
and options.
"""

import asyncio
import hashlib
import os
import shutil
import socket
import stat
from collections.abc import Callable
from contextlib import AbstractAsyncContextManager, aclosing, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

import msgspec
from starlette.requests import ClientDisconnect, Request

from mantisreed.audio.containers import Contents, probe
from mantisreed.errors import MantisreedError, reason_of
from mantisreed.files import file_digest, printable
from mantisreed.folders import check_no_link, forget, opened
from mantisreed.hosts import is_written_private
from mantisreed.jobs.store.served import Upload
from mantisreed.options import API_OPTIONS
from mantisreed.serving.options import is_list, options_given
from mantisreed.serving.orders import Order, new_id
from mantisreed.serving.problems import Problem
from mantisreed.serving.receiving.fields import (
    LARGEST_JSON,
    content_length,
    ending,
    field_content,
    limited,
    rest_of_field,
    wait_of,
)
from mantisreed.serving.receiving.forms import form_pieces, text_of
from mantisreed.serving.receiving.uploads import Uploads, file_name, written
from mantisreed.serving.room import Room
from mantisreed.serving.tokens import Token
from mantisreed.state import make_folder
from mantisreed.urls import UrlError, checked_url, split_url
from mantisreed.workspace import Workspace

_OTHERS = frozenset(("recording", "link", "path", "upload", "name", "webhook", "profile", "wait"))


@dataclass(frozen=True, slots=True)
class Received:
    """What has come with a request, checked; the recording is on disk.

    Attributes:
        order: not accepted yet.
        wait: seconds for which the sender waits for the text.
        upload: of which the recording was made; it is there until the order is accepted.
    """

    order: Order
    wait: float = 0.0
    upload: Upload | None = None


class _Wanted(msgspec.Struct, kw_only=True):
    """What was sent, before it is checked."""

    given: dict[str, Any]
    file: Path | None = None
    name: str | None = None


@dataclass(slots=True)
class Intake:
    """Takes recordings in.

    Attributes:
        workspace: with the settings that stand where an option is not given.
        folder: where uploads become recordings, a folder for each job.
        uploads: that may be gone on with.
        allowed: folders the files of which may be named by their paths.
        takes_private_links: whether links may lead to this network.
        max_bytes, max_seconds: of a recording; None where there is no limit.
        max_stored: bytes of all recordings and uploads of a token; None where there is no limit.
        owner_of: whose job this is; None where there is no such job.
        contents: looks into a recording; in a process of its own, since it may come from anybody.
    """

    workspace: Workspace
    folder: Path
    uploads: Uploads
    allowed: tuple[Path, ...] = ()
    takes_private_links: bool = False
    max_bytes: int | None = None
    max_seconds: float | None = None
    max_stored: int | None = None
    owner_of: Callable[[str], str | None] = lambda job: None
    contents: Callable[[Path], Contents] = probe
    _open: set[str] = field(default_factory=set)
    _room: Room = field(init=False)

    def __post_init__(self) -> None:
        self._room = Room(self.folder, self.uploads, self.owner_of)

    def clear(self, known: set[str]) -> None:
        """Remove what was left by requests that broke off: folders that we have named, and that
        belong to no job. Whatever else is there is left.
        """
        make_folder(self.folder)
        for folder in self.folder.iterdir():
            # What is open belongs to a request that is coming in at this moment.
            if folder.name not in known and folder.name not in self._open:
                forget(folder)

    def most_bytes(self, token: Token) -> int | None:
        """Of a recording that this token sends."""
        limits = [limit for limit in (self.max_bytes, token.limits.max_bytes) if limit is not None]
        return min(limits, default=None)

    def most_seconds(self, token: Token) -> float | None:
        """The same in seconds."""
        limits = [
            limit for limit in (self.max_seconds, token.limits.max_seconds) if limit is not None
        ]
        return min(limits, default=None)

    def room(self, token: Token, wanted: int | None) -> AbstractAsyncContextManager[int | None]:
        """Room for a recording that a token sends; gives how many bytes may come.

        Raises:
            Problem: there is none.
        """
        limits = [
            limit for limit in (self.max_stored, token.limits.max_stored) if limit is not None
        ]
        return self._room.taken(
            token.name, self.most_bytes(token), wanted, min(limits, default=None)
        )

    async def received(
        self, request: Request, token: Token, before: Order | None = None
    ) -> Received:
        """What has come with a request; nothing is left when it is refused.

        Args:
            request: with the recording, or where it is.
            token: of whoever sends it.
            before: the job of an earlier request that this one may repeat; the upload that became
                it is gone.

        Raises:
            Problem: it makes no sense, or is not allowed.
        """
        known = new_id()
        own = self.folder / known
        self._open.add(known)
        try:
            make_folder(own)
            wanted = await self._wanted(request, token, own)
            received = await self._checked(wanted, token, own, before)
        except BaseException:
            forget(own)
            raise
        finally:
            self._open.discard(known)
        if not received.order.is_ours:
            forget(own)
        return received

    async def _wanted(self, request: Request, token: Token, own: Path) -> _Wanted:
        kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
        query = dict(request.query_params)
        # It lets a window in, and is no option of the recording.
        query.pop("ticket", None)
        try:
            if kind == "application/json":
                body = await limited(request, LARGEST_JSON)
                try:
                    document = msgspec.json.decode(body, type=dict[str, Any])
                except (msgspec.MsgspecError, RecursionError) as error:
                    raise Problem(400, f"the body is no JSON object ({error})") from error
                return _Wanted(given={**query, **document})
            if kind == "multipart/form-data":
                return await self._of_form(request, token, own, query)
            if kind == "application/x-www-form-urlencoded":
                raise Problem(
                    415,
                    "a form with a file is multipart/form-data",
                    advice="curl -F recording=@talk.mp3",
                )
            name = query.pop("name", None)
            target = own / file_name(name or f"recording{ending(kind)}")
            async with self.room(token, content_length(request)) as most:
                length = await written(target, request.stream(), most)
            if not length:
                raise Problem(400, "the body is empty", advice="curl --data-binary @talk.mp3")
            return _Wanted(given=query, file=target, name=target.name)
        except ClientDisconnect as error:
            raise Problem(400, "the request broke off") from error

    async def _of_form(
        self, request: Request, token: Token, own: Path, query: dict[str, str]
    ) -> _Wanted:
        """What is in a form; its file goes to the disk as it comes."""
        given: dict[str, Any] = dict(query)
        file, sent_as = own / "sent", None
        async with aclosing(
            form_pieces(request.headers["content-type"], request.stream())
        ) as pieces:
            async for piece in pieces:
                if piece.file_name is None:
                    _add(given, piece.name, text_of(await field_content(pieces, piece)))
                    continue
                if piece.name != "recording":
                    raise Problem(
                        400, f"the file is in the field {piece.name[:60]!r}, not in `recording`"
                    )
                if sent_as is not None:
                    raise Problem(400, "one recording is taken, and the form has two files")
                sent_as = piece.file_name
                async with self.room(token, content_length(request)) as most:
                    await written(file, rest_of_field(pieces, piece), most)
        if sent_as is None:
            return _Wanted(given=given)
        # The name may come behind the file.
        named = file.rename(own / file_name(given.get("name") or sent_as))
        return _Wanted(given=given, file=named, name=named.name)

    async def _checked(
        self, wanted: _Wanted, token: Token, own: Path, before: Order | None
    ) -> Received:
        # Forms send what was left empty too.
        given = {name: value for name, value in wanted.given.items() if value not in (None, "")}
        _check_names(given)
        places = [name for name in ("link", "path", "upload") if given.get(name)]
        if len(places) + (wanted.file is not None) != 1:
            raise Problem(
                400,
                "one recording is taken: a file, a link, a path, or an upload",
                advice="curl -F recording=@talk.mp3, or JSON with link, path or upload",
            )
        if given.get("webhook") is not None:
            await self.check_call(given["webhook"])
        order = Order(
            id=own.name,
            owner=token.name,
            name=file_name(given.get("name") or wanted.name or "recording"),
            options=options_given(self.workspace, given),
            webhook=given.get("webhook"),
            profile=given.get("profile", "live"),
        )
        wait = wait_of(given.get("wait"))
        if wanted.file is not None:
            return Received(await self._with_file(order, wanted.file, token), wait)
        if given.get("path"):
            return Received(await self._with_path(order, given["path"], token), wait)
        if given.get("link"):
            return Received(await self._with_link(order, given, token), wait)
        if before is not None and before.upload == given["upload"]:
            name = file_name(given["name"]) if given.get("name") else before.name
            return Received(_changed(order, upload=before.upload, name=name), wait)
        order, upload = await self._with_upload(order, given, token, own)
        return Received(order, wait, upload)

    async def _with_link(self, order: Order, given: dict[str, Any], token: Token) -> Order:
        """The order of a link, which is fetched when its turn comes.

        Raises:
            Problem: it cannot be followed.
        """
        await self.check_link(given["link"], "link")
        return _changed(
            order,
            link=given["link"],
            name=file_name(given.get("name") or split_url(given["link"]).path),
            most_bytes=self.most_bytes(token),
            most_seconds=self.most_seconds(token),
        )

    async def _with_upload(
        self, order: Order, given: dict[str, Any], token: Token, own: Path
    ) -> tuple[Order, Upload]:
        """The order of an upload. That stays until the job is accepted: whoever has sent gigabytes
        may correct a mistyped option.

        Raises:
            Problem: it is not complete, or no recording.
        """
        upload = await self.uploads.get(given["upload"], token.name)
        if not upload.is_complete:
            raise Problem(409, f"the upload is not complete: {upload.has} bytes have come")
        target = own / file_name(given.get("name") or upload.name)
        await self.uploads.put(upload, target)
        return await self._with_file(_changed(order, upload=upload.id), target, token), upload

    async def _with_file(self, order: Order, file: Path, token: Token) -> Order:
        duration = await asyncio.to_thread(self._duration, file, token)
        return _changed(
            order,
            path=str(file.absolute()),
            name=file.name,
            is_ours=True,
            duration=duration,
            most_seconds=self.most_seconds(token),
        )

    async def _with_path(self, order: Order, given: str, token: Token) -> Order:
        """An order with a file of this machine, opened once: what was allowed is what is used,
        whatever its path leads to later.
        """
        name = file_name(Path(given).name)
        target = self.folder / order.id / name
        source = await asyncio.to_thread(self._allowed_file, given)
        with source:
            size = os.fstat(source.fileno()).st_size
            most = self.most_bytes(token)
            if most is not None and size > most:
                raise Problem(413, f"the recording is over {most} bytes")
            try:
                async with self.room(token, size):
                    await asyncio.to_thread(take_in, source, target)
            except OSError as error:
                what = f"the recording cannot be taken over ({reason_of(error)})"
                raise Problem(507, what) from error
        return await self._with_file(_changed(order, name=name), target, token)

    def _allowed_file(self, given: str) -> BinaryIO:
        """A file that is named by its path, open: what was checked is what is used.

        Raises:
            Problem: it is not there, or not allowed.
        """
        try:
            path = Path(given).resolve()
            if not any(map(path.is_relative_to, self.allowed)):
                raise Problem(
                    403,
                    "the path is in no folder that is allowed",
                    advice="`serve --allow FOLDER` allows one",
                )
            descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except (OSError, ValueError, RuntimeError) as error:  # with a NUL in it, a circle of links
            raise Problem(404, f"there is no file {printable(given)[:60]!r}") from error
        source = os.fdopen(descriptor, "rb")
        found = os.fstat(descriptor)
        try:
            # Its path may lead elsewhere by now; then it is not what was allowed.
            is_still = path.resolve() == path and os.path.samestat(found, path.lstat())
        except OSError:
            is_still = False
        if not is_still or not stat.S_ISREG(found.st_mode):
            source.close()
            raise Problem(404, f"there is no file {printable(path.name)}")
        return source

    def _duration(self, file: Path, token: Token) -> float | None:
        """Seconds, as the header has them.

        Raises:
            Problem: it is no recording, or too long.
        """
        try:
            duration = self.contents(file).duration
        except MantisreedError as error:
            error.where = printable(file.name)
            raise Problem.of(error) from error
        most = self.most_seconds(token)
        if duration is not None and most is not None and duration > most:
            raise Problem(
                413, f"the recording lasts {duration:.0f} s, and {most:.0f} s is the limit"
            )
        return None if duration is None else round(duration, 3)

    async def check_call(self, address: str) -> None:
        """See that an address can be called.

        Raises:
            Problem: it is none, or leads to a private address and may not.
        """
        try:
            checked_url(address)
        except UrlError as error:
            raise Problem(400, f"call cannot be used: {error}") from error
        await self.check_link(address, "webhook")

    async def check_link(self, link: str, name: str) -> None:
        """See that a link can be followed, and leads to no private address unless it may.

        Raises:
            Problem: it does not.
        """
        parts = split_url(link)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise Problem(400, f"{name} is an http(s) address")
        if self.takes_private_links:
            return
        try:
            found = await asyncio.get_running_loop().getaddrinfo(
                parts.hostname, None, type=socket.SOCK_STREAM
            )
        except (OSError, ValueError):
            return  # its own turn tells that the host is not known
        if any(is_written_private(str(one[4][0])) for one in found):
            raise Problem(
                403,
                f"{name} leads to a private address",
                advice="`serve --allow-private-links` allows such links",
            )


def take_in(source: BinaryIO, target: Path) -> None:
    """Give an open file another name, or copy it."""
    with suppress(OSError):  # another disk, another user's file, or no such system call
        opened_file = f"/proc/self/fd/{source.fileno()}"
        os.link(opened_file, check_no_link(target), follow_symlinks=True)
        return
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL
    with os.fdopen(opened(target, flags), "wb") as sink:
        shutil.copyfileobj(source, sink, 1 << 20)


def _changed(order: Order, **changes: Any) -> Order:
    return msgspec.structs.replace(order, **changes)


def _check_names(given: dict[str, Any]) -> None:
    """See that all fields of a request are known, and what is no option is a text.

    Raises:
        Problem: one is not.
    """
    unknown = [name for name in given if name not in API_OPTIONS.keys() | _OTHERS]
    if unknown:
        names = ", ".join(sorted(API_OPTIONS))
        raise Problem(400, f"unknown option {unknown[0][:60]!r}", advice=f"options are {names}")
    for name in _OTHERS & given.keys():
        if not isinstance(given[name], str):
            raise Problem(400, f"{name} is a text")
    if given.get("profile", "live") not in ("live", "test"):
        raise Problem(400, "profile is live or test")


def fingerprint(order: Order) -> str:
    """What two requests with one idempotency key have to have in common; reads the recording if it
    was sent along.
    """
    place = order.link if order.link is not None else order.upload or order.path
    content = file_digest(Path(order.path)) if order.is_ours and order.upload is None else place
    return hashlib.sha256(
        msgspec.json.encode((order.name, content, order.options, order.webhook))
    ).hexdigest()


def _add(given: dict[str, Any], name: str, value: str) -> None:
    """Note a field of a form; several of one that is a list are all of it."""
    if name in given and is_list(name):
        value = f"{given[name]},{value}"
    given[name] = value
