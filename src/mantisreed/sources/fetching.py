"""Fetching a recording that is a link: bounded in size and time, wherever the link's host may want to lead us."""

import asyncio
import ipaddress
import os
import secrets
import socket
import tempfile
import zlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from pathlib import Path
from typing import IO, Any

import aiohttp
from aiohttp.abc import AbstractResolver, ResolveResult
from aiohttp.resolver import ThreadedResolver

from mantisreed.cards.urls import UrlError, resolved, split_url
from mantisreed.errors import RecordingError, reason_of
from mantisreed.files import make_folder, printable
from mantisreed.units import short_size

LARGEST_RECORDING = 8 << 30
"""Bytes that are fetched of one recording at most, packed or not: two days of uncompressed sound of one channel."""

_WHOLE_TIME = 3600.0  # seconds
_MOST_REDIRECTS = 5
_BLOCK = 1 << 20
_REDIRECTS = frozenset((301, 302, 303, 307, 308))
_NAT64 = ipaddress.IPv6Network("64:ff9b::/96")  # IPv4 addresses in IPv6 (RFC 6052, 2.1)
_PACKED = {"gzip": 31, "x-gzip": 31, "deflate": 47}  # window bits of zlib, by content coding (RFC 9110, 8.4.1)


@asynccontextmanager
async def fetched(link: str, label: str, folder: Path, *, largest: int = LARGEST_RECORDING) -> AsyncIterator[Path]:
    """What a link leads to as a file, for as long as the context lasts.

    Where the system can, the file has no name: nothing of it is left, however the program ends.

    Args:
        link: an http(s) address; a user's name and password in it are used for its own host only.
        label: how it is called in errors.
        folder: where the file is; it is made if need be.
        largest: bytes that are fetched at most, also once they are unpacked.

    Raises:
        RecordingError: it cannot be fetched, is too large, or leads somewhere that its host must not choose.
    """
    make_folder(folder)
    with _ScratchFile(folder) as (sink, path):
        try:
            async with asyncio.timeout(_WHOLE_TIME):
                await _fetch(link, label, sink, largest)
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            reason = reason_of(error) if str(error) else "no answer in time"
            raise RecordingError(f"cannot be fetched ({reason})", where=label) from error
        sink.flush()
        yield path


class _ScratchFile:
    """A file in a folder that is gone afterwards: an open file for writing, and a path that opens it for reading."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._named: Path | None = None

    def __enter__(self) -> tuple[IO[bytes], Path]:
        if hasattr(os, "O_TMPFILE"):
            with suppress(OSError):  # a file system without files without names
                self._sink: IO[bytes] = tempfile.TemporaryFile(dir=self._folder)
                path = Path(f"/proc/{os.getpid()}/fd/{self._sink.fileno()}")
                if path.exists():
                    return self._sink, path
                self._sink.close()
        self._named = self._folder / f"{secrets.token_hex(8)}.part"
        self._sink = self._named.open("xb")
        return self._sink, self._named

    def __exit__(self, *error: object) -> None:
        self._sink.close()
        if self._named is not None:
            self._named.unlink(missing_ok=True)


async def _fetch(link: str, label: str, sink: IO[bytes], largest: int) -> None:
    limit = aiohttp.ClientTimeout(total=None, sock_connect=20.0, sock_read=120.0)
    named, resolver = _place(link), _Resolver()
    connector = aiohttp.TCPConnector(resolver=resolver, use_dns_cache=False)
    headers = {"Accept-Encoding": "identity"}
    async with aiohttp.ClientSession(
        connector=connector, timeout=limit, auto_decompress=False, cookie_jar=aiohttp.DummyCookieJar()
    ) as session:
        for _ in range(_MOST_REDIRECTS + 1):
            # Whom the user names may be anywhere; whom a stranger names must not be one of our own.
            resolver.takes_private = _place(link) == named
            _check_host(link, label, takes_private=resolver.takes_private)
            async with session.get(link, allow_redirects=False, headers=headers) as response:
                if response.status in _REDIRECTS:
                    link = _next(response, link, label)
                    continue
                if response.status != 200:
                    raise RecordingError(f"cannot be fetched (HTTP {response.status})", where=label)
                await _keep(response, label, sink, largest)
                return
    raise RecordingError(f"it is redirected more than {_MOST_REDIRECTS} times", where=label)


def _next(response: aiohttp.ClientResponse, link: str, label: str) -> str:
    """Where a redirect leads to.

    Raises:
        RecordingError: not to an http(s) address.
    """
    target = response.headers.get("Location", "")
    parts = split_url(link)
    bare = link.replace(f"{parts.netloc.rpartition('@')[0]}@", "", 1) if "@" in parts.netloc else link
    try:
        found = resolved(target, bare)
    except UrlError as error:
        raise RecordingError(f"it is redirected to {printable(target[:200])!r}: {error}", where=label) from error
    if split_url(found).scheme not in ("http", "https"):
        raise RecordingError(f"it is redirected to {printable(found[:200])}", where=label)
    return found


def _check_host(link: str, label: str, *, takes_private: bool) -> None:
    """See to hosts that are written as addresses, which no resolver is asked about."""
    host = (split_url(link).hostname or "").partition("%")[0]
    with suppress(ValueError):
        if not takes_private and is_private(ipaddress.ip_address(host)):
            raise _led_astray(host, label)


def _led_astray(host: str, label: str) -> RecordingError:
    return RecordingError(
        f"it is redirected to {printable(host)}, which is not on the internet but near this machine",
        where=label,
        advice="give that address itself, if you trust it",
    )


def is_private(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    """Whether an address is not on the internet: this machine, this network, or one of its kind."""
    if not address.is_global or address.is_multicast or address.is_reserved or address.is_unspecified:
        return True
    if isinstance(address, ipaddress.IPv4Address):
        return False
    inner = address.ipv4_mapped or address.sixtofour
    if inner is None and address in _NAT64:
        inner = ipaddress.IPv4Address(int(address) & 0xFFFF_FFFF)
    return address.teredo is not None or (inner is not None and is_private(inner))


class _Resolver(AbstractResolver):
    """Finds addresses; unless they may be private, only those on the internet."""

    takes_private = True

    def __init__(self) -> None:
        self._resolver = ThreadedResolver()

    async def resolve(self, host: str, port: int = 0, family: Any = socket.AF_INET) -> list[ResolveResult]:
        """See `AbstractResolver`."""
        found = await self._resolver.resolve(host, port, family)
        if not self.takes_private and any(is_private(ipaddress.ip_address(one["host"])) for one in found):
            raise OSError(f"it is redirected to {host}, which is not on the internet but near this machine")
        return found

    async def close(self) -> None:
        """See `AbstractResolver`."""
        await self._resolver.close()


def _place(link: str) -> tuple[str, int | None]:
    parts = split_url(link)
    return (parts.hostname or "").lower(), parts.port or {"http": 80, "https": 443}.get(parts.scheme.lower())


async def _keep(response: aiohttp.ClientResponse, label: str, sink: IO[bytes], largest: int) -> None:
    """Write what comes, unpacked, as long as it is not too much."""
    announced = response.headers.get("Content-Length", "")
    if announced.isdecimal() and int(announced[:20]) > largest:
        raise _too_large(label, largest)
    coding = response.headers.get("Content-Encoding", "identity").strip().lower()
    if coding not in ("", "identity") and coding not in _PACKED:
        raise RecordingError(
            f"it comes packed in a way that was not asked for ({printable(coding[:40])})", where=label
        )
    unpacker = zlib.decompressobj(_PACKED[coding]) if coding in _PACKED else None
    size = got = 0
    async for block in response.content.iter_chunked(_BLOCK):
        got += len(block)
        waiting = block
        while waiting:
            try:
                content = unpacker.decompress(waiting, _BLOCK) if unpacker else waiting
            except zlib.error as error:
                raise RecordingError(f"cannot be unpacked ({error})", where=label) from error
            waiting = unpacker.unconsumed_tail if unpacker else b""
            size += len(content)
            if max(size, got) > largest:
                raise _too_large(label, largest)
            await asyncio.to_thread(sink.write, content)


def _too_large(label: str, largest: int) -> RecordingError:
    return RecordingError(f"it is larger than {short_size(largest)}, and is not fetched", where=label)
