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

            place = target.rstrip("/")
            for file in found:
                write_stored(place, file.name, file.content)
            return [f"{place}/{file.name}" for file in found]
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
    """A value as one part of a path: whoever named a recording chooses neither the folder nor, in
    an address, another storage behind `::`.
    """
    name = re.sub(r"[/\\\0]|::", "-", value)
    return "-" if name.strip() in ("", ".", "..") else name
