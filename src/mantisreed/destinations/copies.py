"""Files of results, copied into folders and storages; copying again writes the same again."""

import re
from pathlib import Path

from mantisreed.destinations.actions import Copy
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.errors import InputError
from mantisreed.files import folder_at, write_whole
from mantisreed.sources.recordings import STORAGE
from mantisreed.state import make_folder


def copy_files(copy: Copy, parcel: Parcel, folder: Path) -> list[str]:
    """Copy the files of a recording; gives where they are.

    Args:
        copy: which, and where to.
        parcel: them.
        folder: that a relative path starts in.

    Raises:
        DeliveryError: they cannot be written there.
        InputError: there is no such file.
    """
    target = parcel.filled(copy.to, _as_name)
    found = parcel.chosen(copy.files)
    try:
        if STORAGE.match(target):
            from mantisreed.sources.storage import write_stored  # takes long to import

            places = [f"{target.rstrip('/')}/{file.name}" for file in found]
            for place, file in zip(places, found, strict=True):
                write_stored(place, file.content)
            return places
        into = folder_at(folder, target)
        make_folder(into)
        for file in found:
            write_whole(into / file.name, file.content)
        return [str(into / file.name) for file in found]
    except InputError as error:
        raise DeliveryError(
            error.what, where=error.where, advice=error.advice, may_pass=True
        ) from error


def _as_name(value: str) -> str:
    """A value as one part of a path: whoever named a recording does not choose the folder."""
    name = re.sub(r"[/\\\0]", "-", value)
    return "-" if name.strip() in ("", ".", "..") else name
