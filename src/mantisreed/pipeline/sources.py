"""Sources: the recordings that a user names, as files and folders."""

import os
from collections.abc import Iterable, Iterator
from pathlib import Path

from mantisreed.errors import InputError
from mantisreed.files import shown

_LISTED = """
.3gp .aac .ac3 .aif .aiff .amr .ape .asf .au .avi .awb .caf .flac .flv .gsm .m4a .m4b .m4v .mka .mkv .mov
.mp2 .mp3 .mp4 .mpeg .mpg .oga .ogg .ogv .opus .snd .spx .ts .tta .voc .w64 .wav .wave .webm .wma .wmv .wv
"""
SUFFIXES = frozenset(_LISTED.split())
"""Endings of the files that are taken from a folder; a file that is named itself may have any."""


def find_recordings(sources: Iterable[str | os.PathLike[str]]) -> list[Path]:
    """The recordings that these files and folders are or hold, in order, each once.

    Folders are searched with all folders in them, hidden ones left out.

    Raises:
        InputError: a source does not exist, or a folder holds no recording.
    """
    found: dict[Path, Path] = {}
    for source in sources:
        for path in _recordings_of(Path(source)):
            found.setdefault(path.resolve(), path)
    return list(found.values())


def _recordings_of(source: Path) -> list[Path]:
    if source.is_dir():
        inside = sorted(_walk(source), key=os.fsencode)
        if not inside:
            raise InputError(
                "no recording in this folder", where=shown(source), advice="recordings end in .wav, .mp3, .m4a, ..."
            )
        return inside
    if not source.exists():
        raise InputError("no such file or folder", where=shown(source))
    return [source]


def _walk(folder: Path) -> Iterator[Path]:
    for parent, folders, files in os.walk(folder):
        folders[:] = [name for name in folders if not name.startswith(".")]
        for name in files:
            if not name.startswith(".") and os.path.splitext(name)[1].lower() in SUFFIXES:  # noqa: PTH122
                yield Path(parent, name)
