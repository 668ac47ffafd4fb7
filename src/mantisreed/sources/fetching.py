"""Fetching a recording that is a link: bounded in size and time, wherever the link's host may want
to lead us.
"""

import asyncio
import os
import re
import secrets
import time
import zlib
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager, suppress
from dataclasses import dataclass
from email.message import EmailMessage
from pathlib import Path
from typing import IO, Literal

import aiohttp

from mantisreed.errors import RecordingError, reason_of
from mantisreed.files import printable
from mantisreed.folders import forget, opened
from mantisreed.hosts import InternetResolver, is_written_private
from mantisreed.state import make_folder
from mantisreed.units import short_size
from mantisreed.urls import UrlError, port_of, resolved, split_url

LARGEST_RECORDING = 8 << 30
"""Bytes that are fetched of one recording at most, packed or not: two days of uncompressed sound of
one channel.
"""

Kind = Literal["recording", "feed"]

_MOST_FAILURES = 5  # connections in a row that bring nothing
_PAUSE = 0.25  # seconds after the first failure, doubled by each
_PASSING = frozenset((408, 416, 425, 429, 500, 502, 503, 504))
_TELLING = 1.0  # seconds between two notes of how much is here
_HEAD = 2048  # bytes by which a page or a feed shows itself
_PAGES = (b"<!doctype html", b"<html", b"<head", b"<body")
_CONTENT_RANGE = re.compile(r"bytes (?P<start>[0-9]{1,18})-[0-9]{1,18}/(?P<total>[0-9]{1,18})")
_WHOLE_TIME = 3600.0  # seconds
_MOST_REDIRECTS = 5  # a circle of redirects has no end
_BLOCK = 1 << 20  # bytes that are written at once
_REDIRECTS = frozenset((301, 302, 303, 307, 308))
# Window bits of zlib, by content coding (RFC 9110, 8.4.1).
_PACKED = {
    "gzip": 31,
    "x-gzip": 31,
    "deflate": 47,
}


@dataclass(frozen=True, slots=True)
class FetchHooks:
    """Who is told what while a recording is fetched.

    Attributes:
        on_progress: called about once a second with how much is here, fit for a line.
        on_name: called once with the name that the recording has where it comes from, if it has
            one.
    """

    on_progress: Callable[[str], None] = lambda note: None
    on_name: Callable[[str], None] = lambda name: None


@asynccontextmanager
async def fetched(
    link: str,
    label: str,
    folder: Path,
    *,
    largest: int = LARGEST_RECORDING,
    hooks: FetchHooks | None = None,
    named_by: str | None = None,
    kind: Kind = "recording",
) -> AsyncIterator[Path]:
    """What a link leads to as a file, for as long as the context lasts.

    A connection that breaks is taken up again where it was, if the server can (RFC 9110, 14). Where
    the system can, the file has no name: nothing of it is left, however the program ends.

    Args:
        link: an http(s) address; a user's name and password in it are used for its own host only.
        label: how it is called in errors.
        folder: where the file is; it is made if need be.
        largest: bytes that are fetched at most, also once they are unpacked.
        hooks: who is told how it goes.
        named_by: the address of whatever named the link; None where the user did. A stranger's
            links lead to the internet, or to the host that the stranger is on.
        kind: what is expected; a web page instead of a recording is told before the whole is
            fetched.

    Raises:
        RecordingError: it cannot be fetched, is too large, is no recording, or leads somewhere that
            its host must not choose.
    """
    with scratch_file(folder) as (sink, path):
        fetching = _Fetching(link, label, sink, largest, hooks or FetchHooks(), named_by, kind)
        try:
            async with asyncio.timeout(_WHOLE_TIME):
                await fetching.fetch()
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            reason = reason_of(error) if str(error) else "no answer in time"
            raise RecordingError(f"cannot be fetched ({reason})", where=label) from error
        sink.flush()
        yield path


@contextmanager
def scratch_file(folder: Path) -> Iterator[tuple[IO[bytes], Path]]:
    """A file in a folder that is gone afterwards: an open file for writing, and a path that opens
    it for reading.
    """
    make_folder(folder)
    with _ScratchFile(folder) as both:
        yield both


class _ScratchFile:
    """A file in a folder that is gone afterwards: an open file for writing, and a path that opens
    it for reading.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._named: Path | None = None

    def __enter__(self) -> tuple[IO[bytes], Path]:
        if hasattr(os, "O_TMPFILE"):
            with suppress(OSError):  # a file system without files without names
                # Not with O_EXCL, as `tempfile` has it: what is worth keeping gets a name.
                descriptor = os.open(self._folder, os.O_TMPFILE | os.O_RDWR | os.O_CLOEXEC, 0o600)
                self._sink: IO[bytes] = os.fdopen(descriptor, "w+b")
                path = Path(f"/proc/{os.getpid()}/fd/{self._sink.fileno()}")
                if path.exists():
                    return self._sink, path
                self._sink.close()
        self._named = self._folder / f".{secrets.token_hex(8)}.part"
        self._sink = os.fdopen(opened(self._named, os.O_RDWR | os.O_CREAT | os.O_EXCL), "w+b")
        return self._sink, self._named

    def __exit__(self, *error: object) -> None:
        self._sink.close()
        if self._named is not None:
            forget(self._named)


@dataclass(slots=True)
class _Fetching:
    """One recording on its way here, over as many connections as it takes."""

    link: str
    label: str
    sink: IO[bytes]
    largest: int
    hooks: FetchHooks
    named_by: str | None
    kind: Kind
    _got: int = 0
    _total: int | None = None
    _validator: str | None = None
    _may_resume: bool = False
    _is_named: bool = False
    _told: float = 0.0

    async def fetch(self) -> None:
        """Fetch it; broken connections are taken up again."""
        limit = aiohttp.ClientTimeout(total=None, sock_connect=20.0, sock_read=120.0)
        resolver = InternetResolver()
        connector = aiohttp.TCPConnector(resolver=resolver, use_dns_cache=False)
        failures = 0
        async with aiohttp.ClientSession(
            connector=connector,
            timeout=limit,
            auto_decompress=False,
            cookie_jar=aiohttp.DummyCookieJar(),
        ) as session:
            while True:
                before = self._got
                try:
                    await self._once(session, resolver)
                    return
                except (aiohttp.ClientPayloadError, aiohttp.ClientConnectionError, TimeoutError):
                    failures = 1 if self._got > before else failures + 1
                    # Whoever never answered at all is not asked again; the user hears of it at
                    # once.
                    if self._total is None or failures > _MOST_FAILURES:
                        raise
                    self.hooks.on_progress("the connection broke; going on")
                    await asyncio.sleep(_PAUSE * 2**failures)

    async def _once(self, session: aiohttp.ClientSession, resolver: InternetResolver) -> None:
        """Follow the link once, through all redirects, to what it leads to."""
        link, named = self.link, _place(self.link)
        for _ in range(_MOST_REDIRECTS + 1):
            # Whom the user names may be anywhere; whom a stranger names must not be one of our own.
            is_neighbour = self.named_by is None or _host(self.named_by) == _host(self.link)
            resolver.takes_private = is_neighbour and _place(link) == named
            _check_host(link, self.label, takes_private=resolver.takes_private)
            async with session.get(
                link, allow_redirects=False, headers=self._headers()
            ) as response:
                if response.status in _REDIRECTS:
                    link = _next(response, link, self.label)
                    continue
                await self._take(response)
                return
        raise RecordingError(f"it redirects more than {_MOST_REDIRECTS} times", where=self.label)

    def _headers(self) -> dict[str, str]:
        headers = {"Accept-Encoding": "identity"}
        if self._got and self._may_resume:
            headers["Range"] = f"bytes={self._got}-"
            if self._validator:
                headers["If-Range"] = self._validator
        return headers

    async def _take(self, response: aiohttp.ClientResponse) -> None:
        if response.status == 206 and self._got:
            total = _resumed_total(response, self._got)
            if total is None or total != self._total:
                raise RecordingError("it was changed while it was fetched", where=self.label)
        elif response.status == 200:
            self._begin(response)
        elif self._total is not None and response.status in _PASSING:
            raise aiohttp.ClientPayloadError(f"HTTP {response.status}")
        else:
            raise RecordingError(f"cannot be fetched (HTTP {response.status})", where=self.label)
        await self._keep(response)

    def _begin(self, response: aiohttp.ClientResponse) -> None:
        """What comes now is the whole of it."""
        self._told = time.monotonic()
        self.sink.seek(0)
        self.sink.truncate()
        announced = response.headers.get("Content-Length", "")
        self._got, self._total = 0, int(announced[:20]) if announced.isdecimal() else -1
        if self._total > self.largest:
            raise _too_large(self.label, self.largest)
        tag = response.headers.get("ETag", "")
        self._validator = tag if tag.startswith('"') else response.headers.get("Last-Modified")
        can_range = (
            self._validator is not None
            or response.headers.get("Accept-Ranges", "").lower() == "bytes"
        )
        self._may_resume = can_range and self._total >= 0 and _coding(response) in ("", "identity")
        name = _attached_name(response.headers.get("Content-Disposition", ""))
        if name and not self._is_named:
            self._is_named = True
            self.hooks.on_name(name)

    async def _keep(self, response: aiohttp.ClientResponse) -> None:
        """Write what comes, unpacked, as long as it is not too much."""
        coding = _coding(response)
        if coding not in ("", "identity") and coding not in _PACKED:
            raise RecordingError(
                f"it comes packed in a way that was not asked for ({printable(coding[:40])})",
                where=self.label,
            )
        unpacker = zlib.decompressobj(_PACKED[coding]) if coding in _PACKED else None
        packed = 0
        async for block in response.content.iter_chunked(_BLOCK):
            packed += len(block)
            waiting = block
            while waiting:
                try:
                    content = unpacker.decompress(waiting, _BLOCK) if unpacker else waiting
                except zlib.error as error:
                    raise RecordingError(
                        f"cannot be unpacked ({error})", where=self.label
                    ) from error
                waiting = unpacker.unconsumed_tail if unpacker else b""
                if not self._got:
                    self._check_kind(response, content)
                self._got += len(content)
                if max(self._got, packed) > self.largest:
                    raise _too_large(self.label, self.largest)
                await asyncio.to_thread(self.sink.write, content)
            self._tell()

    def _check_kind(self, response: aiohttp.ClientResponse, beginning: bytes) -> None:
        """See, by its first bytes and by what the server says, that it is what is expected.

        Raises:
            RecordingError: it is a page, a feed or another text.
        """
        if self.kind != "recording":
            return
        said = response.headers.get("Content-Type", "").partition(";")[0].strip().lower()
        head = beginning[:_HEAD].lstrip().lower()
        if is_feed(head):
            advice = f"to transcribe its entries, name it as feed+{self.label}"
            raise RecordingError("this is a feed, not a recording", where=self.label, advice=advice)
        if head.startswith(_PAGES) or (_is_text(said) and _reads_as_text(beginning[:_HEAD])):
            what = f"this is a web page or a text ({printable(said or 'text')}), not a recording"
            raise RecordingError(
                what, where=self.label, advice="name the address of the sound itself"
            )

    def _tell(self) -> None:
        now = time.monotonic()
        if now - self._told < _TELLING:
            return
        self._told = now
        if self._total is not None and self._total > 0:
            total = f" of {short_size(self._total)}"
        else:
            total = ""
        self.hooks.on_progress(f"{short_size(self._got)}{total}")


def is_feed(head: bytes) -> bool:
    """Whether a file that begins so, in lower case, is a feed."""
    is_xml = head.startswith((b"<", b"\xef\xbb\xbf<"))
    return is_xml and any(mark in head for mark in (b"<rss", b"<feed", b"<rdf:rdf"))


def _is_text(content_type: str) -> bool:
    return content_type.startswith("text/") or content_type.endswith(("json", "xml"))


def _reads_as_text(content: bytes) -> bool:
    """Whether bytes are printable text; the last character may be cut."""
    if any(byte < 9 or 13 < byte < 32 for byte in content):
        return False
    try:
        content.decode("utf-8")
    except UnicodeDecodeError as error:
        return error.start >= len(content) - 3
    return True


def _coding(response: aiohttp.ClientResponse) -> str:
    return response.headers.get("Content-Encoding", "identity").strip().lower()


def _resumed_total(response: aiohttp.ClientResponse, got: int) -> int | None:
    """Length of the whole, when an answer brings what follows `got` bytes; None when it brings
    another part.
    """
    found = _CONTENT_RANGE.fullmatch(response.headers.get("Content-Range", "").strip())
    if found is None or int(found["start"]) != got:
        return None
    return int(found["total"])


def _attached_name(disposition: str) -> str | None:
    """The file name that a `Content-Disposition` header gives (RFC 6266), without folders."""
    message = EmailMessage()
    try:
        message["Content-Disposition"] = disposition
        name = message.get_filename()
    except (ValueError, LookupError):
        return None
    bare = (name or "").replace("\\", "/").rpartition("/")[2].replace("\0", "").strip()
    if bare.strip("."):
        return bare
    return None


def _next(response: aiohttp.ClientResponse, link: str, label: str) -> str:
    """Where a redirect leads to.

    Raises:
        RecordingError: not to an http(s) address.
    """
    target = response.headers.get("Location", "")
    parts = split_url(link)
    if "@" in parts.netloc:
        bare = link.replace(f"{parts.netloc.rpartition('@')[0]}@", "", 1)
    else:
        bare = link
    try:
        found = resolved(target, bare)
    except UrlError as error:
        raise RecordingError(
            f"it redirects to {printable(target[:200])!r}: {error}", where=label
        ) from error
    if split_url(found).scheme not in ("http", "https"):
        raise RecordingError(f"it redirects to {printable(found[:200])}", where=label)
    return found


def _check_host(link: str, label: str, *, takes_private: bool) -> None:
    """See to hosts that are written as addresses, which no resolver is asked about."""
    host = split_url(link).hostname or ""
    if not takes_private and is_written_private(host):
        raise _led_astray(host, label)


def _led_astray(host: str, label: str) -> RecordingError:
    return RecordingError(
        f"it leads to {printable(host)}, which is not on the internet but near this machine",
        where=label,
        advice="give that address itself, if you trust it",
    )


def _host(link: str) -> str:
    return (split_url(link).hostname or "").lower()


def _place(link: str) -> tuple[str, int | None]:
    parts = split_url(link)
    return (parts.hostname or "").lower(), port_of(parts)


def _too_large(label: str, largest: int) -> RecordingError:
    return RecordingError(
        f"it is larger than {short_size(largest)}, and is not fetched", where=label
    )
