"""Sources: the recordings that a user names, as files, folders and links."""

import hashlib
import os
import re
import stat
from collections.abc import Iterable, Iterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, unquote

from mantisreed.cards.secrets import Secret
from mantisreed.cards.urls import split_url
from mantisreed.errors import InputError, RecordingError, reason_of
from mantisreed.files import printable

if TYPE_CHECKING:
    from collections.abc import AsyncIterator

_LISTED = """
.3gp .aac .ac3 .aif .aiff .amr .ape .asf .au .avi .awb .caf .flac .flv .gsm .m4a .m4b .m4v .mka .mkv .mov
.mp2 .mp3 .mp4 .mpeg .mpg .oga .ogg .ogv .opus .snd .spx .ts .tta .voc .w64 .wav .wave .webm .wma .wmv .wv
"""
SUFFIXES = frozenset(_LISTED.split())
"""Endings of the files that are taken from a folder; a file that is named itself may have any."""

_LINK = re.compile(r"https?://[^/]", re.IGNORECASE)
_LETS_IN = re.compile(r"sig|token|key|secret|auth|pass|cred|session|code", re.IGNORECASE)
_LONG_VALUE = 24  # characters of a value in a query, from which on it may be a key whatever its name


@dataclass(frozen=True, slots=True)
class Source:
    """One recording, where it comes from.

    Attributes:
        path: the file; for a link only the name that it would have.
        link: the http(s) address, for a recording that is fetched.
        problem: why it is no recording at all, for what was found in a folder and cannot be looked into.
    """

    path: Path
    link: str | None = None
    problem: str | None = None

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
        if self.link is None:
            return os.fsencode(self.path.resolve()).decode("utf-8", "backslashreplace")
        parts = split_url(self.link)
        if not parts.query and "@" not in parts.netloc:
            return self.link
        # What lets somebody in is kept nowhere.
        return f"{self.label}#{hashlib.sha256(self.link.encode('utf-8', 'surrogateescape')).hexdigest()[:32]}"


def find_recordings(sources: Iterable[str | os.PathLike[str]]) -> list[Source]:
    """The recordings that these files, folders and links are or hold, in order, each once.

    Folders are searched with all folders in them, hidden ones left out. One in them that cannot be read, or is a
    link, is a source with a problem: it is told, and counts as failed.

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
        RecordingError: it cannot be fetched, or is none.
    """
    if source.problem is not None:
        raise RecordingError(source.problem, where=source.label, advice="name it itself, if you want what is in it")
    if source.link is None:
        yield source.path
        return
    from mantisreed.pipeline.fetching import fetched  # only for links: it takes long to import

    _hide(source.link)
    async with fetched(source.link, source.label, folder) as path:
        yield path


def _hide(link: str) -> None:
    """Let what a link holds of secrets never come out: its password, and what in its query may let somebody in."""
    parts = split_url(link)
    found = [unquote(parts.password or "")]
    found += [value for name, value in parse_qsl(parts.query) if _LETS_IN.search(name) or len(value) >= _LONG_VALUE]
    for value in found:
        if value:
            Secret(value)


def _recordings_of(given: str | os.PathLike[str]) -> list[Source]:
    if isinstance(given, str) and _LINK.match(given):
        if not split_url(given).hostname:
            raise InputError("this is no link", where=printable(given), advice="https://HOST/PATH")
        name = unquote(split_url(given).path).rstrip("/").rpartition("/")[2] or "recording"
        return [Source(Path(name.replace("\0", "")), given)]
    path = Path(given)
    if path.is_dir():
        inside = sorted(_walk(path), key=lambda source: os.fsencode(source.path))
        if not inside:
            advice = "recordings end in .wav, .mp3, .m4a, ..."
            raise InputError("no recording in this folder", where=printable(path), advice=advice)
        return inside
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


def _walk(folder: Path) -> Iterator[Source]:
    """The recordings in a folder and in all below it; a folder that cannot be looked into as what it is."""
    unread: list[OSError] = []
    for parent, folders, files in os.walk(folder, onerror=unread.append):
        folders[:] = [name for name in folders if not name.startswith(".")]
        for name in folders:
            if Path(parent, name).is_symlink():
                yield Source(Path(parent, name), problem="it is a link to a folder, which is not followed")
        for name in files:
            if not name.startswith(".") and os.path.splitext(name)[1].lower() in SUFFIXES:  # noqa: PTH122
                yield Source(Path(parent, name))
    for error in unread:
        yield Source(Path(error.filename), problem=f"this folder cannot be read ({reason_of(error)})")
