"""What is made of a bank's sounds, kept for the next start: making it takes seconds."""

import io
import zipfile
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import platformdirs
from numpy.typing import NDArray

from mantisreed.errors import OutputError
from mantisreed.files import write_whole

Arrays = Mapping[str, NDArray[Any]]


def kept(digest: str, *names: str) -> Arrays | None:
    """The arrays that were kept under this digest of what they are made of.

    Args:
        digest: in hexadecimal.
        names: of the arrays, all of which must be there.

    Returns:
        None where there are none that can be read.
    """
    try:
        with _file_of(digest).open("rb") as source, np.load(source) as archive:
            return {name: archive[name] for name in names}
    except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile):
        return None


def keep(digest: str, arrays: Arrays) -> None:
    """Keep arrays for the next start; where that cannot be done, they are made again."""
    sink, file = io.BytesIO(), _file_of(digest)
    # Not compressed: reading is to be quicker than making.
    np.savez(sink, **arrays)  # type: ignore[arg-type]  # none of them is called `allow_pickle`
    with suppress(OSError, OutputError):  # without them it is only slower
        file.parent.mkdir(parents=True, exist_ok=True)
        write_whole(file, sink.getvalue())


def _file_of(digest: str) -> Path:
    return platformdirs.user_cache_path("mantisreed") / "banks" / f"{digest[:32]}.npz"
