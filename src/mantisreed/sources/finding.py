"""The recordings that a user names, in whatever way."""

import os
import stat
from collections.abc import Iterable
from pathlib import Path

from mantisreed.errors import InputError
from mantisreed.files import printable
from mantisreed.sources.recordings import (
    LINK,
    TABLE_SUFFIXES,
    Facts,
    Selection,
    Source,
    linked_recording,
    recordings_in,
)
from mantisreed.sources.tables import read_table


def find_recordings(
    sources: "Iterable[str | os.PathLike[str] | Source]", selection: Selection | None = None
) -> list[Source]:
    """The recordings that these files, folders, tables and links are or hold, in order, each once.

    Folders are searched with all folders in them; hidden ones, hidden files, empty and partial ones are left out. A
    folder in them that cannot be read, or is a link, is a source with a problem: it is told, and counts as failed.

    Raises:
        InputError: a source does not exist, or a folder or table holds no recording.
    """
    found: dict[tuple[str, Facts], Source] = {}
    for given in sources:
        for source in [given] if isinstance(given, Source) else _recordings_of(given, selection or Selection()):
            found.setdefault((source.key, source.facts), source)
    return list(found.values())


def _recordings_of(given: str | os.PathLike[str], selection: Selection) -> list[Source]:
    if isinstance(given, str) and LINK.match(given):
        linked = linked_recording(given)
        if linked is None:
            raise InputError("this is no link", where=printable(given), advice="https://HOST/PATH")
        return [linked]
    path = Path(given)
    if path.is_dir():
        inside = sorted(recordings_in(path, selection), key=lambda source: os.fsencode(source.path))
        if not inside:
            advice = "recordings end in .wav, .mp3, .m4a, ..." + (
                "; see --include and --exclude" if selection.include or selection.exclude else ""
            )
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
    if path.suffix.lower() in TABLE_SUFFIXES:
        return read_table(path, selection.column).sources
    return [Source(path)]
