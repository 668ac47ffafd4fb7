"""Recordings in object storage, on other machines and in archives: whatever fsspec has a file
system for.

Keys are never in our settings: each file system finds its own where its users keep them
(environment variables, configuration files, an SSH agent), or in `FSSPEC_PROTOCOL_OPTION` variables
of fsspec.
"""

import asyncio
import os
import posixpath
import re
import secrets
import shutil
import tempfile
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from importlib import import_module
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from mantisreed.errors import InputError, NothingThereError, RecordingError, reason_of
from mantisreed.extras import missing
from mantisreed.files import printable
from mantisreed.secrets import Secret
from mantisreed.sources.fetching import LARGEST_RECORDING, FetchHooks, scratch_file
from mantisreed.sources.recordings import Selection, Source, is_recording
from mantisreed.units import short_size

if TYPE_CHECKING:
    from mantisreed.files import FileState

_EXTRAS = {
    "s3": "s3",
    "s3a": "s3",
    "gs": "gcs",
    "gcs": "gcs",
    "abfs": "abfs",
    "az": "abfs",
    "sftp": "sftp",
}
_PROTOCOLS = frozenset(
    (*_EXTRAS, "abfss", "ssh", "ftp", "smb", "zip", "tar", "memory", "webdav", "hdfs")
)
"""What addresses may begin with. Others of fsspec run programs, follow web links unguarded, or name
local files.
"""

_WHOLE = frozenset(("s3", "s3a", "gs", "gcs", "abfs", "abfss", "az", "zip", "tar", "memory"))
_BUCKETS = frozenset(("s3", "s3a", "gs", "gcs", "abfs", "abfss", "az"))
_INNER = frozenset(("zip", "tar"))
_LETS_IN = re.compile(r"SECRET|PASSWORD|TOKEN|_KEY$|KEY_ID$|CREDENTIAL", re.IGNORECASE)
_SHORTEST_KEY = 8  # characters; hiding shorter ones would hide half of what is printed
_BLOCK = 1 << 20  # bytes that are copied at once
_GLOB = re.compile(r"[*?\[]")


def _found(files: Any, path: str, selection: Selection) -> list[str]:
    if _GLOB.search(path):
        return [one for one in files.glob(path) if not files.isdir(one)]
    base = path.rstrip("/") or "."

    def is_taken(one: str) -> bool:
        return selection.takes(Path(posixpath.relpath(one, base)))

    return list(filter(is_taken, files.find(path)))


def stored_recordings(address: str, selection: Selection) -> list[Source]:
    """The recordings that an address in a storage names: one, those in a folder, or those of a
    pattern.

    Raises:
        InputError: there is none, or the storage cannot be used.
    """
    files, path, chain = opened(address)
    where = printable(address)
    try:
        if path.rstrip("/") and not _GLOB.search(path) and files.isfile(path):
            return [_source(files, path, chain, address)]
        found = _found(files, path, selection)
        is_missing = not found and not files.exists(_root_of(address, path))
    except Exception as error:  # each file system has errors of its own
        raise InputError(
            f"this storage cannot be read ({reason_of(error)})", where=where
        ) from error
    if is_missing:
        raise InputError(
            "there is no such place", where=where, advice="check its name, and your rights"
        )
    taken = [one for one in sorted(found) if is_recording(posixpath.basename(one))]
    if not taken:
        raise NothingThereError(
            "no recording there", where=where, advice="recordings end in .wav, .mp3, .m4a, ..."
        )
    return [_source(files, one, chain, address) for one in taken]


def _root_of(address: str, path: str) -> str:
    """What must be there even when it holds nothing: the bucket of object storage, where folders
    are only names.
    """
    is_bucket = address.partition("://")[0] in _BUCKETS
    base = _GLOB.split(path, maxsplit=1)[0].rstrip("/")
    if is_bucket:
        return base.partition("/")[0]
    return base or "/"


def _source(files: Any, path: str, chain: str, address: str) -> Source:
    scheme = address.partition("://")[0]
    inner = files._strip_protocol(path) if scheme in _INNER else path
    authority = _authority(address, scheme)
    return Source(Path(posixpath.basename(path)), f"{scheme}://{authority}{inner}{chain}")


def _authority(address: str, scheme: str) -> str:
    """The part of an address that fsspec takes off: user and host, where a path follows them."""
    if scheme not in ("sftp", "ssh", "ftp", "smb", "webdav", "hdfs"):
        return ""
    return address.partition("://")[2].partition("/")[0]


def opened(address: str) -> tuple[Any, str, str]:
    """The file system of an address, the path in it, and what follows behind `::`.

    Raises:
        InputError: nobody knows such a storage, or its package is not installed.
    """
    where = printable(address)
    first, *rest = address.split("::")
    for part in (first, *rest):
        scheme = part.partition("://")[0].lower() if "://" in part else ""
        if scheme not in _PROTOCOLS and not (scheme == "" and part is not first):
            known = ", ".join(sorted(f"{name}://" for name in _PROTOCOLS))
            raise InputError(
                f"nothing is read from {scheme or part}://",
                where=where,
                advice=f"known are: {known}",
            )
    _hide_keys()
    core = import_module("fsspec.core")
    try:
        if first.partition("://")[0].lower() in ("sftp", "ssh"):
            import_module("mantisreed.sources.sftp").use_checked_sftp()
        files, path = core.url_to_fs(address)
    except InputError:
        raise
    except ImportError as error:
        scheme = first.partition("://")[0]
        name = _EXTRAS.get(scheme, "storage")
        raise missing(name, f"what speaks {scheme}://", where) from error
    except Exception as error:  # each file system has errors of its own
        raise InputError(
            f"this storage cannot be used ({reason_of(error)})", where=where
        ) from error
    files.invalidate_cache()  # what was listed a minute ago may not be all that is there
    return files, str(path), f"::{'::'.join(rest)}" if rest else ""


def _hide_keys() -> None:
    """Let the keys that file systems find in the environment never come out."""
    for name, value in os.environ.items():
        if len(value) >= _SHORTEST_KEY and _LETS_IN.search(name):
            Secret(value)


@asynccontextmanager
async def stored_file(
    address: str, label: str, folder: Path, hooks: FetchHooks | None = None
) -> AsyncIterator[Path]:
    """A recording in a storage as a file, for as long as the context lasts; it has no name where
    the system can.

    Raises:
        RecordingError: it cannot be read, or is too large.
    """
    loop = asyncio.get_running_loop()

    def tell(note: str) -> None:
        if hooks is not None:
            loop.call_soon_threadsafe(hooks.on_progress, note)

    with scratch_file(folder) as (sink, path):
        try:
            await asyncio.to_thread(_copy, address, label, sink, tell)
        except InputError as error:
            raise RecordingError(error.what, where=label, advice=error.advice) from error
        except RecordingError:
            raise
        except Exception as error:  # each file system has errors of its own
            raise RecordingError(f"cannot be read ({reason_of(error)})", where=label) from error
        sink.flush()
        yield path


def _copy(address: str, label: str, sink: IO[bytes], tell: Callable[[str], None]) -> None:
    files, path, _ = opened(address)
    size = 0
    with files.open(path, "rb") as stream:
        while block := stream.read(_BLOCK):
            size += len(block)
            if size > LARGEST_RECORDING:
                limit = short_size(LARGEST_RECORDING)
                raise RecordingError(f"it is larger than {limit}, and is not fetched", where=label)
            sink.write(block)
            if size % (16 * _BLOCK) < _BLOCK:
                tell(short_size(size))


def stored_state(address: str) -> "FileState":
    """What a storage says of a file: its size, and when it was changed or which content it is.

    Raises:
        OSError: it says nothing.
    """
    from mantisreed.files import FileState, bytes_digest

    files, path, _ = opened(address)
    facts = files.info(path)
    signs = [
        str(facts.get(name, ""))
        for name in ("ETag", "etag", "mtime", "LastModified", "last_modified", "CRC")
    ]
    stamp = int(bytes_digest(["|".join(signs).encode()]).removeprefix("sha256:")[:12], 16)
    return FileState(0, 0, int(facts.get("size") or 0), stamp)


def is_written_whole(address: str) -> bool:
    """Whether a file of this storage appears whole, as objects do."""
    return address.partition("://")[0].lower() in _WHOLE


def put_file(file: Path, address: str) -> None:
    """Put a file into a storage, whole, unless one of its size is there already.

    Raises:
        InputError: it cannot be read, or not be written there.
    """
    files, path, _ = opened(address)
    # Where a file appears as it grows, it grows under another name.
    growing = path if is_written_whole(address) else f"{path}.{secrets.token_hex(4)}.part"
    try:
        if files.exists(path) and files.size(path) == file.stat().st_size:
            return
        files.makedirs(posixpath.dirname(path), exist_ok=True)
        files.put_file(str(file), growing)
        if growing != path:
            files.mv(growing, path)
    except Exception as error:  # each file system has errors of its own
        raise InputError(
            f"cannot be put into the storage ({reason_of(error)})", where=printable(address)
        ) from error


def listed(address: str) -> list[str]:
    """The names of the files in a folder of a storage; none where there is no such folder.

    Raises:
        InputError: it cannot be listed.
    """
    files, path, _ = opened(address)
    try:
        files.invalidate_cache()  # other machines write there
        return [str(found).rpartition("/")[2] for found in files.ls(path, detail=False)]
    except FileNotFoundError:
        return []
    except Exception as error:  # each file system has errors of its own
        raise InputError(
            f"cannot be listed ({reason_of(error)})", where=printable(address)
        ) from error


def write_part(file: Path, begin: int, address: str) -> None:
    """Put the end of a file into a storage, whole; as much of it as there is now.

    Args:
        file: that grows.
        begin: the byte with which the part begins.
        address: of the part.

    Raises:
        InputError: it cannot be read, or not be written there.
    """
    try:
        with tempfile.NamedTemporaryFile() as part, file.open("rb") as source:
            source.seek(begin)
            shutil.copyfileobj(source, part, 1 << 20)
            part.flush()
            put_file(Path(part.name), address)
    except OSError as error:
        raise InputError(f"cannot be read ({reason_of(error)})", where=printable(file)) from error


def copy_stored(address: str, begin: int, sink: IO[bytes]) -> None:
    """Write what a file of a storage holds from a byte on.

    Raises:
        InputError: it cannot be read.
        OSError: it cannot be written.
    """
    files, path, _ = opened(address)
    try:
        with files.open(path, "rb") as source:
            source.seek(begin)
            while block := source.read(1 << 20):
                sink.write(block)
    except Exception as error:  # each file system has errors of its own
        raise InputError(
            f"cannot be read ({reason_of(error)})", where=printable(address)
        ) from error


def read_stored(address: str, name: str) -> bytes | None:
    """The content of a file in a folder of a storage; None where there is no such file.

    Args:
        address: of the folder.
        name: of the file, whatever characters it has.

    Raises:
        InputError: it cannot be read.
    """
    files, path, where = _opened_in(address, name)
    try:
        return bytes(files.cat_file(path))
    except FileNotFoundError:
        return None
    except Exception as error:  # each file system has errors of its own
        raise InputError(f"cannot be read ({reason_of(error)})", where=printable(where)) from error


def remove_stored(address: str, name: str = "") -> None:
    """Remove a file of a storage; one that is not there is no error.

    Args:
        address: of the file, or of its folder.
        name: of the file in that folder, whatever characters it has; empty where the address is its
            own.

    Raises:
        InputError: it cannot be removed.
    """
    files, path, where = _opened_in(address, name)
    try:
        if files.exists(path):
            files.rm_file(path)
    except Exception as error:  # each file system has errors of its own
        raise InputError(
            f"cannot be removed ({reason_of(error)})", where=printable(where)
        ) from error


def _opened_in(address: str, name: str) -> tuple[Any, str, str]:
    """The file system of a folder, and the path and address of a file in it; of the address itself
    where the name is empty.
    """
    files, path, _ = opened(address)
    if not name:
        return files, path, address
    # A name is put behind the opened path: in an address `?`, `*` and `::` would mean something.
    return files, f"{path.rstrip('/')}/{name}", f"{address}/{name}"


def write_stored(address: str, name: str, content: bytes) -> None:
    """Put a file into a folder of a storage, whole.

    Args:
        address: of the folder.
        name: of the file, whatever characters it has.
        content: of it.

    Raises:
        InputError: it cannot be written there.
    """
    files, path, where = _opened_in(address, name)
    try:
        parent = posixpath.dirname(path)
        if parent and not files.exists(parent):
            files.makedirs(parent, exist_ok=True)
        files.pipe_file(path, content)
    except Exception as error:  # each file system has errors of its own
        raise InputError(
            f"cannot be written ({reason_of(error)})", where=printable(where)
        ) from error
