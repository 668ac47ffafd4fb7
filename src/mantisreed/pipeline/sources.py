"""Sources: the recordings that a user names, as files, folders and links."""

import os
import re
import stat
from collections.abc import Iterable, Iterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import unquote

from mantisreed.cards.urls import split_url
from mantisreed.errors import InputError, RecordingError
from mantisreed.files import make_folder, printable

if TYPE_CHECKING:
    from collections.abc import AsyncIterator

_LISTED = """
.3gp .aac .ac3 .aif .aiff .amr .ape .asf .au .avi .awb .caf .flac .flv .gsm .m4a .m4b .m4v .mka .mkv .mov
.mp2 .mp3 .mp4 .mpeg .mpg .oga .ogg .ogv .opus .snd .spx .ts .tta .voc .w64 .wav .wave .webm .wma .wmv .wv
"""
SUFFIXES = frozenset(_LISTED.split())
"""Endings of the files that are taken from a folder; a file that is named itself may have any."""

_LINK = re.compile(r"https?://[^/]", re.IGNORECASE)
_FETCH_LIMIT = 3600.0


@dataclass(frozen=True, slots=True)
class Source:
    """One recording, where it comes from.

    Attributes:
        path: the file; for a link only the name that it would have.
        link: the http(s) address, for a recording that is fetched.
    """

    path: Path
    link: str | None = None

    @property
    def name(self) -> str:
        """The name of the recording, fit for showing."""
        return printable(self.path.name)

    @property
    def label(self) -> str:
        """The source as it was named, fit for showing; of a link no password and no query."""
        if self.link is None:
            return printable(self.path)
        parts = split_url(self.link)
        return printable(f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}{parts.path}")

    @property
    def key(self) -> str:
        """What tells this source from any other, as text."""
        return self.link or os.fsencode(self.path.resolve()).decode("utf-8", "backslashreplace")


def find_recordings(sources: Iterable[str | os.PathLike[str]]) -> list[Source]:
    """The recordings that these files, folders and links are or hold, in order, each once.

    Folders are searched with all folders in them, hidden ones left out.

    Raises:
        InputError: a source does not exist, or a folder holds no recording.
    """
    found: dict[str, Source] = {}
    for given in sources:
        for source in _recordings_of(given):
            found.setdefault(source.key, source)
    return list(found.values())


@asynccontextmanager
async def local_file(source: Source, folder: Path) -> "AsyncIterator[Path]":
    """The recording as a file; one that is a link is fetched into the folder, for as long as the context lasts.

    Raises:
        RecordingError: it cannot be fetched.
    """
    if source.link is None:
        yield source.path
        return
    import secrets

    make_folder(folder)
    path = folder / f"{secrets.token_hex(8)}{source.path.suffix[:8]}"
    try:
        await _fetch(source, path)
        yield path
    finally:
        path.unlink(missing_ok=True)


async def _fetch(source: Source, path: Path) -> None:
    import aiohttp

    assert source.link is not None
    limit = aiohttp.ClientTimeout(total=_FETCH_LIMIT, sock_connect=20.0, sock_read=120.0)
    try:
        async with aiohttp.ClientSession(timeout=limit) as session, session.get(source.link) as response:
            if response.status != 200:
                raise RecordingError(f"cannot be fetched (HTTP {response.status})", where=source.label)
            with path.open("wb") as sink:
                async for block in response.content.iter_chunked(1 << 20):
                    sink.write(block)
    except (aiohttp.ClientError, TimeoutError, OSError) as error:
        reason = str(error) or "no answer in time"
        raise RecordingError(f"cannot be fetched ({reason.lower()})", where=source.label) from error


def _recordings_of(given: str | os.PathLike[str]) -> list[Source]:
    if isinstance(given, str) and _LINK.match(given):
        if not split_url(given).hostname:
            raise InputError("this is no link", where=printable(given), advice="https://HOST/PATH")
        name = unquote(split_url(given).path).rstrip("/").rpartition("/")[2] or "recording"
        return [Source(Path(name.replace("\0", "")), given)]
    path = Path(given)
    if path.is_dir():
        inside = sorted(_walk(path), key=os.fsencode)
        if not inside:
            advice = "recordings end in .wav, .mp3, .m4a, ..."
            raise InputError("no recording in this folder", where=printable(path), advice=advice)
        return [Source(file) for file in inside]
    try:
        kind = path.stat().st_mode
    except (OSError, ValueError) as error:
        raise InputError("no such file or folder", where=printable(path)) from error
    if not stat.S_ISREG(kind):
        raise InputError(
            "this is not a file: pipes, sockets and devices cannot be read",
            where=printable(path),
            advice="write the sound to a file first",
        )
    return [Source(path)]


def _walk(folder: Path) -> Iterator[Path]:
    for parent, folders, files in os.walk(folder):
        folders[:] = [name for name in folders if not name.startswith(".")]
        for name in files:
            if not name.startswith(".") and os.path.splitext(name)[1].lower() in SUFFIXES:  # noqa: PTH122
                yield Path(parent, name)
