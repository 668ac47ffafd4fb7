"""Sources: the recordings that a user names, as files, folders and links."""

import hashlib
import os
import re
import stat
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from itertools import product
from pathlib import Path
from urllib.parse import unquote

from mantisreed.errors import reason_of
from mantisreed.files import key_of, printable
from mantisreed.urls import split_url

_LISTED = """
.3gp .aac .ac3 .aif .aifc .aiff .amr .ape .asf .au .avi .awb .caf .dts .dtshd .flac .flv .g722 .gsm
.m4a .m4b .m4v .mka .mkv .mov .mp2 .mp3 .mp4 .mpeg .mpg .mxf .nist .oga .ogg .ogv .opus .snd .sph
.spx .ts .tta .voc .w64 .wav .wave .webm .wma .wmv .wv
"""
SUFFIXES = frozenset(_LISTED.split())
"""Endings of the files that are taken from a folder; a file that is named itself may have any."""

_PARTIAL = frozenset((".part", ".partial", ".tmp", ".download", ".crdownload", ".filepart"))
"""Endings that programs give to files that they are still writing."""

TABLE_SUFFIXES = frozenset((".csv", ".tsv", ".jsonl", ".ndjson", ".xlsx"))
"""Endings of files that are taken for tables of recordings."""

FEED_SUFFIXES = frozenset((".xml", ".rss", ".atom"))
"""Endings of files and links that are taken for feeds."""

LINK = re.compile(r"https?://[^/]", re.IGNORECASE)
"""How a source begins that is a link."""

STORAGE = re.compile(r"(?!https?:|feed\+|file:)[A-Za-z][A-Za-z0-9+.-]*://", re.IGNORECASE)
"""How a source begins that is in a storage, such as `s3://`."""

_USER = re.compile(r"//[^/@]*@")
_USER_WITH_PASSWORD = re.compile(r"//[^/@:]*:[^/@]*@")

_SKIPS_NAMED = 5  # files of one kind that were left out; the others are counted


@dataclass(frozen=True, slots=True)
class Facts:
    """What is known of a recording beforehand, and differs from one to the next; None for what is
    not known.

    Attributes:
        language: the tag of the language spoken.
        engine: name of the engine card.
        channels: as `--channels` takes it.
        hints: names and rare words to expect.
        presumed_language: the tag of the language that a feed names; it counts where nobody says
            another one.
    """

    language: str | None = None
    engine: str | None = None
    channels: str | None = None
    hints: tuple[str, ...] | None = None
    presumed_language: str | None = None


NO_FACTS = Facts()


@dataclass(frozen=True, slots=True)
class Source:
    """One recording, where it comes from.

    Attributes:
        path: the file; for a link only the name that it would have.
        link: the address, for a recording that is fetched: by http(s), or from a storage such as
            `s3://`.
        problem: why it is no recording at all, for what was found in a folder or table and cannot
            be used.
        facts: what is known of it beforehand.
        about: what else is said of it, by name, such as its title or the other columns of its row;
            it is carried along to transcripts and destinations, and changes nothing.
        entry: what a feed knows it by, together with the feed; None for what comes from no feed.
        named_by: the address of the feed that names the link: a stranger, whose links lead to the
            internet only.
        wanted_by: the id of whoever wants it, where the same recording is wanted several times at
            once and each has outputs of its own; empty elsewhere.
        most_bytes, most_seconds: of a link, where whoever wants it may not have all that there is;
            None for no limit.
    """

    path: Path
    link: str | None = None
    problem: str | None = None
    facts: Facts = NO_FACTS
    about: tuple[tuple[str, str], ...] = field(default=(), compare=False)
    entry: str | None = field(default=None, compare=False)
    named_by: str | None = field(default=None, compare=False)
    wanted_by: str = ""
    most_bytes: int | None = field(default=None, compare=False)
    most_seconds: float | None = field(default=None, compare=False)

    @property
    def advice(self) -> str | None:
        """What to do about a problem."""
        if self.path.is_dir():
            return "name it itself, if you want what is in it"
        return None

    @property
    def holds_secrets(self) -> bool:
        """Whether the link may hold something that lets in whoever knows it."""
        if self.link is None:
            return False
        if not self.is_web:
            return _USER_WITH_PASSWORD.search(self.link) is not None
        parts = split_url(self.link)
        return bool(parts.query) or "@" in parts.netloc

    @property
    def is_web(self) -> bool:
        """Whether it is an http(s) link, which an engine can be given too."""
        return self.link is not None and LINK.match(self.link) is not None

    @property
    def name(self) -> str:
        """The name of the recording, fit for showing."""
        return printable(self.path.name)

    @property
    def label(self) -> str:
        """The source as it was named, fit for showing; of a link no password and no query."""
        if self.link is None:
            return printable(self.path)
        if not self.is_web:
            return printable(_USER.sub("//", self.link))
        parts = split_url(self.link)
        return printable(f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}{parts.path}")

    @property
    def key(self) -> str:
        """What tells this source from any other, as text."""
        place = self._place
        if self.wanted_by:
            return f"{place} for {self.wanted_by}"
        return place

    @property
    def _place(self) -> str:
        if self.link is None:
            return key_of(self.path)
        if not self.holds_secrets:
            return self.link
        # What lets somebody in is kept nowhere.
        digest = hashlib.sha256(self.link.encode("utf-8", "surrogateescape")).hexdigest()
        return f"{self.label}#{digest[:32]}"


@dataclass(frozen=True, slots=True)
class Selection:
    """Which recordings are taken of what the sources hold.

    Attributes:
        include, exclude: patterns of names in folders, such as `*.wav` or `2026-*`; without any,
            all are taken.
        column: of a table, that names the recordings; None is `source`.
        newest: how many entries of a feed are taken, the newest ones; None takes all.
        since: the moment from which on entries of a feed are taken, in seconds since 1970; None
            takes all.
    """

    include: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    column: str | None = None
    newest: int | None = None
    since: float | None = None

    @property
    def is_of_feeds(self) -> bool:
        """Whether it can be meant for feeds only."""
        return self.newest is not None or self.since is not None

    def takes(self, path: Path) -> bool:
        """Whether a file in a folder is taken, by its name or by its place below the folder."""
        names = (path.name, path.as_posix())

        def is_one_of(patterns: tuple[str, ...]) -> bool:
            return any(fnmatchcase(*pair) for pair in product(names, patterns))

        return (not self.include or is_one_of(self.include)) and not is_one_of(self.exclude)


def named_recording(named: str, folder: Path) -> Source:
    """The recording that a table names, by a link or by a path from a folder; with a problem where
    it is none.
    """
    if LINK.match(named):
        return linked_recording(named) or Source(Path("link"), problem="this is no link")
    if STORAGE.match(named):
        return Source(Path(named.partition("::")[0].rpartition("/")[2] or "recording"), named)
    if "://" in named:
        return Source(
            Path(named.rpartition("/")[2] or "link"), problem="links to files are not followed"
        )
    path = folder / Path(named).expanduser()
    try:
        kind = path.stat().st_mode
    except (OSError, ValueError):
        return Source(path, problem="no such file")
    if not stat.S_ISREG(kind):
        return Source(path, problem="this is not a file")
    return Source(path)


def is_feed_link(named: str, selection: Selection) -> bool:
    """Whether an http(s) link is meant as a feed: by its ending, or because only feeds have what is
    selected.
    """
    suffix = Path(split_url(named).path).suffix.lower()
    return suffix in FEED_SUFFIXES or (selection.is_of_feeds and suffix not in SUFFIXES)


def linked_recording(link: str) -> Source | None:
    """The recording that an http(s) link leads to; None where it names no host."""
    if not split_url(link).hostname:
        return None
    name = unquote(split_url(link).path).rstrip("/").rpartition("/")[2] or "recording"
    return Source(Path(name.replace("\0", "")), link)


@dataclass(frozen=True, slots=True)
class Skipped:
    """A file in a folder that was not taken, and why, in a few words."""

    path: Path
    why: str


def described_skips(folder: Path, skipped: "Sequence[Skipped]") -> list[str]:
    """What was left out of a folder: counted by the reason, the first ones named."""
    told = []
    for why in dict.fromkeys(one.why for one in skipped):
        names = [printable(one.path.relative_to(folder)) for one in skipped if one.why == why]
        files = "1 file" if len(names) == 1 else f"{len(names)} files"
        more = f" and {len(names) - _SKIPS_NAMED} more" if len(names) > _SKIPS_NAMED else ""
        listed = ", ".join(names[:_SKIPS_NAMED])
        told.append(f"{printable(folder)}: {files} left out, {why}: {listed}{more}")
    return told


def recordings_in(
    folder: Path, selection: Selection, on_skip: "Callable[[Skipped], None]" = lambda skipped: None
) -> Iterator[Source]:
    """The recordings in a folder and in all below it; a folder that cannot be looked into as what
    it is.

    Args:
        folder: where to look.
        selection: which of them are taken.
        on_skip: called with each file that is not taken, but for hidden ones and those that the
            selection excludes.
    """
    unread: list[OSError] = []
    for parent, folders, files in os.walk(folder, onerror=unread.append):
        folders[:] = [name for name in folders if not name.startswith(".")]
        for name in folders:
            if Path(parent, name).is_symlink():
                yield Source(
                    Path(parent, name), problem="it is a link to a folder, which is not followed"
                )
        for name in files:
            path = Path(parent, name)
            why = _why_skipped(path)
            if why is None:
                if selection.takes(path.relative_to(folder)):
                    yield Source(path)
            elif why:
                on_skip(Skipped(path, why))
    for error in unread:
        yield Source(
            Path(error.filename), problem=f"this folder cannot be read ({reason_of(error)})"
        )


def _why_skipped(path: Path) -> str | None:
    """Why a file is not taken; empty where that need not be told, None where it is a recording."""
    name = path.name
    if is_recording(name):
        return "empty" if _is_empty(path) else None
    if _is_left_out(name):
        return "hidden or partial"
    if name.startswith("."):
        return ""
    return "not recordings by their names"


def is_recording(name: str) -> bool:
    """Whether a file in a folder may be a recording by its name: neither hidden nor partial, with a
    known ending.
    """
    return not name.startswith((".", "~")) and os.path.splitext(name)[1].lower() in SUFFIXES  # noqa: PTH122


def _is_left_out(name: str) -> bool:
    """Whether a file would be a recording if it were neither hidden nor still being written."""
    bare = name.lstrip(".~").rstrip("~")
    stem, suffix = os.path.splitext(bare)  # noqa: PTH122
    bare = stem if suffix.lower() in _PARTIAL else bare
    return bare != name and is_recording(bare)


def _is_empty(path: Path) -> bool:
    try:
        found = path.stat()
        # A pipe has no size, and is told for what it is.
        return stat.S_ISREG(found.st_mode) and found.st_size == 0
    except OSError:
        return False  # its own turn tells what is wrong with it
