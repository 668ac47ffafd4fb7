"""The recordings that a user names, in whatever way."""

import os
import stat
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TypeAlias
from urllib.parse import unquote

from mantisreed.errors import InputError, NothingThereError
from mantisreed.files import printable
from mantisreed.sources.database_tables import DATABASE, read_database_table
from mantisreed.sources.recordings import (
    FEED_SUFFIXES,
    LINK,
    STORAGE,
    TABLE_SUFFIXES,
    Facts,
    Selection,
    Skipped,
    Source,
    described_skips,
    is_feed_link,
    linked_recording,
    recordings_in,
)
from mantisreed.sources.tables import read_table
from mantisreed.urls import split_url

_FEED = "feed+"
"""What stands before a link that is a feed, whatever it ends in."""


Sources: TypeAlias = "str | os.PathLike[str] | Source | Iterable[str | os.PathLike[str] | Source]"
"""One source, or several."""


def several(given: Sources, name: str) -> list[str | os.PathLike[str] | Source]:
    """What was given as a list, also where it is a single one.

    Raises:
        InputError: it is, or holds, something that names no recording.
    """
    kinds = (str, os.PathLike, Source)
    if isinstance(given, kinds):
        return [given]
    if isinstance(given, Iterable) and not isinstance(given, bytes):
        listed = list(given)
    else:
        listed = [given]
    for one in listed:
        if not isinstance(one, kinds):
            raise InputError(
                f"expected a path, a link or a list of them, not {type(one).__name__}",
                where=name,
            )
    return listed


def find_recordings(
    sources: Sources,
    selection: Selection | None = None,
    *,
    on_note: Callable[[str], None] = lambda note: None,
) -> list[Source]:
    """The recordings that these files, folders, tables, feeds, storages and links are or hold, in
    order, each once.

    Folders are searched with all folders in them; hidden ones, hidden files, empty and partial ones
    are left out. A folder in them that cannot be read, or is a link, is a source with a problem: it
    is told, and counts as failed.

    Args:
        sources: as the user names them; a single one need not be in a list.
        selection: which of the recordings in folders, tables and feeds are taken; None takes all.
        on_note: called with a line for each kind of file that was left out of a folder.

    Raises:
        InputError: a source does not exist, or a folder or table holds no recording.
    """
    found: dict[tuple[str, Facts], Source] = {}
    for given in several(sources, "sources"):
        if isinstance(given, Source):
            named = [given]
        else:
            named = _recordings_of(given, selection or Selection(), on_note)
        for source in named:
            found.setdefault((source.key, source.facts), source)
    return list(found.values())


def _recordings_of(
    given: str | os.PathLike[str], selection: Selection, on_note: Callable[[str], None]
) -> list[Source]:
    if isinstance(given, str) and DATABASE.match(given):
        return read_database_table(given, selection.column).sources
    if isinstance(given, str) and "://" in given:
        found = _at_address(given, selection)
        if found is not None:
            return found
    path = Path(given)
    if isinstance(given, str) and given.lower().startswith("file://"):
        path = Path(unquote(split_url(given).path))
    if path.is_dir():
        return _recordings_inside(path, selection, on_note)
    try:
        kind = path.stat().st_mode
    except (OSError, ValueError) as error:
        raise InputError("no such file or folder", where=printable(path)) from error
    if not stat.S_ISREG(kind):
        raise InputError(
            "this is not a file: pipes, sockets and devices are no files",
            where=printable(path),
            advice="write the sound to a file first",
        )
    if path.suffix.lower() in TABLE_SUFFIXES:
        return read_table(path, selection.column).sources
    if path.suffix.lower() in FEED_SUFFIXES:
        return _recordings_of_feed(os.fspath(path), selection)
    return [Source(path)]


def _recordings_inside(
    folder: Path, selection: Selection, on_note: Callable[[str], None]
) -> list[Source]:
    """The recordings in a folder, in order.

    Raises:
        NothingThereError: there is none.
    """
    skipped: list[Skipped] = []
    found = recordings_in(folder, selection, skipped.append)
    inside = sorted(found, key=lambda source: os.fsencode(source.path))
    for line in described_skips(folder, skipped):
        on_note(line)
    if not inside:
        advice = "recordings end in .wav, .mp3, .m4a, ..."
        if selection.include or selection.exclude:
            advice += "; see --include and --exclude"
        raise NothingThereError(
            "no recording in this folder", where=printable(folder), advice=advice
        )
    return inside


def _at_address(given: str, selection: Selection) -> list[Source] | None:
    """The recordings at an address: a feed's, a storage's, or the one of a link; None where it is a
    file's.

    Raises:
        InputError: it leads nowhere.
    """
    bare = given[len(_FEED) :] if given.lower().startswith(_FEED) else given
    if LINK.match(bare) and (bare != given or is_feed_link(given, selection)):
        return _recordings_of_feed(bare, selection)
    if STORAGE.match(given):
        from mantisreed.sources.storage import stored_recordings  # takes long to import

        return stored_recordings(given, selection)
    if not LINK.match(given):
        return None
    linked = linked_recording(given)
    if linked is None:
        raise InputError("this is no link", where=printable(given), advice="https://HOST/PATH")
    return [linked]


def _recordings_of_feed(named: str, selection: Selection) -> list[Source]:
    from mantisreed.sources.feeds import recordings_of_feed  # takes long to import

    return recordings_of_feed(named, selection)
