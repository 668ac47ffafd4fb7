"""What comes with `POST /jobs`: a recording in a form, in the body, as a link, a path or an upload; and options."""

import asyncio
import hashlib
import os
import shutil
import socket
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from dataclasses import dataclass, field
from ipaddress import ip_address
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import msgspec
from starlette.datastructures import UploadFile
from starlette.formparsers import MultiPartException
from starlette.requests import ClientDisconnect, Request

from mantisreed.audio.decode import Contents, probe
from mantisreed.errors import MantisreedError
from mantisreed.files import make_folder, printable
from mantisreed.serving.orders import Order, OrderOptions, new_id
from mantisreed.serving.problems import Problem
from mantisreed.serving.tokens import Token
from mantisreed.serving.uploads import Uploads, file_name, written
from mantisreed.sources.fetching import is_private

_LARGEST_JSON = 1 << 20  # bytes
_LISTS = ("hints", "to")
_FLAGS = ("redact", "afresh")
_OPTIONS = frozenset(OrderOptions.__struct_fields__)
_OTHERS = frozenset(("recording", "link", "path", "upload", "name", "call", "profile", "wait"))


class _Wanted(msgspec.Struct, kw_only=True):
    """What was sent, before it is checked."""

    given: dict[str, Any]
    file: Path | None = None
    name: str | None = None


@dataclass(slots=True)
class Intake:
    """Takes recordings in.

    Attributes:
        folder: where uploads become recordings, a folder for each job.
        uploads: that may be gone on with.
        allowed: folders the files of which may be named by their paths.
        takes_private_links: whether links may lead to this network.
        max_bytes, max_seconds: of a recording; None where there is no limit.
        contents: looks into a recording; in a process of its own, since it may come from anybody.
    """

    folder: Path
    uploads: Uploads
    allowed: tuple[Path, ...] = ()
    takes_private_links: bool = False
    max_bytes: int | None = None
    max_seconds: float | None = None
    contents: Callable[[Path], Contents] = probe
    _open: set[str] = field(default_factory=set)

    def clear(self, known: set[str]) -> None:
        """Remove what was left by requests that broke off: folders that belong to no job."""
        make_folder(self.folder)
        for folder in self.folder.iterdir():
            if folder.name not in known and folder.name not in self._open:
                shutil.rmtree(folder, ignore_errors=True)

    def most_bytes(self, token: Token) -> int | None:
        """Of a recording that this token sends."""
        limits = [limit for limit in (self.max_bytes, token.limits.max_bytes) if limit is not None]
        return min(limits, default=None)

    async def order(self, request: Request, token: Token) -> Order:
        """The order of a request, with its recording on disk; nothing is left when it is refused.

        Raises:
            Problem: it makes no sense, or is not allowed.
        """
        known = new_id()
        own = self.folder / known
        self._open.add(known)
        try:
            make_folder(own)
            wanted = await self._wanted(request, token, own)
            order = await self._checked(wanted, token, known, own)
        except BaseException:
            shutil.rmtree(own, ignore_errors=True)
            raise
        finally:
            self._open.discard(known)
        if not order.is_ours:
            shutil.rmtree(own, ignore_errors=True)
        return order

    async def _wanted(self, request: Request, token: Token, own: Path) -> _Wanted:
        kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
        query = dict(request.query_params)
        query.pop("ticket", None)
        try:
            if kind == "application/json":
                body = await _limited(request, _LARGEST_JSON)
                try:
                    document = msgspec.json.decode(body, type=dict[str, Any])
                except msgspec.MsgspecError as error:
                    raise Problem(400, f"the body is no JSON object ({error})") from error
                return _Wanted(given={**query, **document})
            if kind == "multipart/form-data":
                return await self._of_form(request, token, own, query)
            if kind == "application/x-www-form-urlencoded":
                raise Problem(415, "a form with a file is multipart/form-data", advice="curl -F recording=@talk.mp3")
            name = query.pop("name", None)
            target = own / file_name(name or f"recording{_ending(kind)}")
            length = await written(target, request.stream(), self.most_bytes(token))
            if not length:
                raise Problem(400, "the body is empty", advice="curl --data-binary @talk.mp3")
            return _Wanted(given=query, file=target, name=target.name)
        except ClientDisconnect as error:
            raise Problem(400, "the request broke off") from error

    async def _of_form(self, request: Request, token: Token, own: Path, query: dict[str, str]) -> _Wanted:
        most = self.most_bytes(token)
        try:
            async with request.form(max_files=1, max_fields=40, max_part_size=_LARGEST_JSON) as form:
                given: dict[str, Any] = dict(query)
                sent: UploadFile | None = None
                for name, value in form.multi_items():
                    if isinstance(value, UploadFile):
                        if name != "recording":
                            raise Problem(400, f"the file is in the field {name[:60]!r}, not in `recording`")
                        sent = value
                    elif name in given and name in _LISTS:
                        given[name] = f"{given[name]},{value}"
                    else:
                        given[name] = value
                # The name may come behind the file.
                file = None
                if sent is not None:
                    if most is not None and (sent.size or 0) > most:
                        raise Problem(413, f"the recording is over {most} bytes")
                    file = own / file_name(given.get("name") or sent.filename)
                    await written(file, _blocks(sent), most)
        except MultiPartException as error:
            raise Problem(400, f"the form cannot be read ({error.message})") from error
        return _Wanted(given=given, file=file, name=file.name if file else None)

    async def _checked(self, wanted: _Wanted, token: Token, known: str, own: Path) -> Order:
        given = wanted.given
        unknown = [name for name in given if name not in _OPTIONS | _OTHERS]
        if unknown:
            names = ", ".join(sorted(_OPTIONS))
            raise Problem(400, f"unknown option {unknown[0][:60]!r}", advice=f"options are {names}")
        places = [name for name in ("link", "path", "upload") if given.get(name)]
        if len(places) + (wanted.file is not None) != 1:
            raise Problem(
                400,
                "one recording is taken: a file, a link, a path, or an upload",
                advice="curl -F recording=@talk.mp3, or JSON with link, path or upload",
            )
        call, profile = given.get("call"), given.get("profile", "live")
        if call is not None:
            await self.check_link(call, "call")
        if profile not in ("live", "test"):
            raise Problem(400, "profile is live or test")
        order = Order(
            id=known,
            owner=token.name,
            name=file_name(given.get("name") or wanted.name or "recording"),
            options=_options(given),
            call=call,
            profile=profile,
        )
        if wanted.file is not None:
            return await self._with_file(order, wanted.file, token)
        if given.get("link"):
            await self.check_link(given["link"], "link")
            name = file_name(given.get("name") or urlsplit(given["link"]).path)
            return _changed(order, link=given["link"], name=name)
        if given.get("path"):
            return await self._with_path(order, given["path"], token)
        upload = self.uploads.get(str(given["upload"]), token.name)
        if not upload.is_complete:
            raise Problem(409, f"the upload is not complete: {self.uploads.offset(upload)} bytes have come")
        target = own / file_name(given.get("name") or upload.name)
        self.uploads.path(upload).replace(target)
        self.uploads.drop(upload)
        return await self._with_file(order, target, token)

    async def _with_file(self, order: Order, file: Path, token: Token) -> Order:
        duration = await asyncio.to_thread(self._duration, file, token)
        return _changed(order, path=str(file.absolute()), name=file.name, is_ours=True, duration=duration)

    async def _with_path(self, order: Order, given: Any, token: Token) -> Order:
        if not isinstance(given, str) or "\0" in given:
            raise Problem(400, "path is a text")
        path = Path(os.path.realpath(given))
        if not any(path.is_relative_to(folder) for folder in self.allowed):
            raise Problem(403, "the path is in no folder that is allowed", advice="`serve --allow FOLDER` allows one")
        if not path.is_file():
            raise Problem(404, f"there is no file {printable(path.name)}")
        most = self.most_bytes(token)
        if most is not None and path.stat().st_size > most:
            raise Problem(413, f"the recording is over {most} bytes")
        duration = await asyncio.to_thread(self._duration, path, token)
        return _changed(order, path=str(path), name=file_name(path.name), duration=duration)

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
        limits = [limit for limit in (self.max_seconds, token.limits.max_seconds) if limit is not None]
        if duration is not None and limits and duration > min(limits):
            raise Problem(413, f"the recording lasts {duration:.0f} s, and {min(limits):.0f} s are allowed")
        return None if duration is None else round(duration, 3)

    async def check_link(self, link: Any, name: str) -> None:
        """See that a link can be followed, and leads to no private address unless it may.

        Raises:
            Problem: it does not.
        """
        parts = urlsplit(link) if isinstance(link, str) else None
        if parts is None or parts.scheme not in ("http", "https") or not parts.hostname:
            raise Problem(400, f"{name} is an http(s) address")
        if self.takes_private_links:
            return
        try:
            found = await asyncio.get_running_loop().getaddrinfo(parts.hostname, None, type=socket.SOCK_STREAM)
        except OSError:
            return  # its own turn tells that the host is not known
        with suppress(ValueError):
            if any(is_private(ip_address(one[4][0])) for one in found):
                raise Problem(
                    403,
                    f"{name} leads to a private address",
                    advice="`serve --allow-private-links` allows such links",
                )


def _changed(order: Order, **changes: Any) -> Order:
    return msgspec.structs.replace(order, **changes)


def _options(given: dict[str, Any]) -> OrderOptions:
    """The options of a request; in forms and queries all are texts.

    Raises:
        Problem: one makes no sense.
    """
    chosen: dict[str, Any] = {}
    for name in _OPTIONS & given.keys():
        value = given[name]
        if name in _LISTS and isinstance(value, str):
            value = [part.strip() for part in value.split(",") if part.strip()]
        elif name in _FLAGS and isinstance(value, str):
            value = value.lower() in ("1", "true", "yes", "on")
        elif name == "spend_limit" and isinstance(value, str):
            with suppress(ValueError):
                value = float(value)
        elif name == "channels" and isinstance(value, int):
            value = str(value)
        chosen[name] = value
    try:
        return msgspec.convert(chosen, OrderOptions)
    except msgspec.ValidationError as error:
        raise Problem(400, f"an option makes no sense ({error})") from error


def fingerprint(order: Order) -> str:
    """What two requests with one idempotency key have to have in common."""
    parts = (order.name, order.link, None if order.is_ours else order.path, order.options, order.call)
    return hashlib.sha256(msgspec.json.encode(parts)).hexdigest()


async def _limited(request: Request, most: int) -> bytes:
    body = bytearray()
    async for block in request.stream():
        body += block
        if len(body) > most:
            raise Problem(413, f"a JSON body has at most {most} bytes")
    return bytes(body)


async def _blocks(upload: UploadFile) -> AsyncIterator[bytes]:
    while block := await upload.read(1 << 20):
        yield block


_ENDINGS = {
    "audio/mpeg": ".mp3",
    "audio/flac": ".flac",
    "audio/x-flac": ".flac",
    "audio/ogg": ".ogg",
    "audio/opus": ".opus",
    "audio/webm": ".webm",
    "audio/mp4": ".m4a",
    "video/mp4": ".mp4",
    "audio/wav": ".wav",
    "audio/x-wav": ".wav",
}


def _ending(kind: str) -> str:
    return _ENDINGS.get(kind, "")
