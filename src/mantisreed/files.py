"""Writing whole files or none, and showing names of files that hold anything at all."""

import errno
import hashlib
import os
import secrets
import signal
import stat
import sys
import unicodedata
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from mantisreed.errors import InputError, OutputError, reason_of
from mantisreed.folders import check_no_link, held, opened, remove

_DIGEST_BLOCK = 1 << 20  # bytes; larger blocks are no faster
# What file systems say that have no files without names.
_NO_SUCH_FILES = (errno.EOPNOTSUPP, errno.EISDIR, errno.EINVAL, errno.ENOENT, errno.ENOSYS)


def write_whole(path: Path, content: bytes) -> None:
    """Write a file so that it appears whole or not at all; one that stands there is replaced.

    Raises:
        OutputError: the folder or the file cannot be written; nothing is left behind.
    """
    beside = path.with_name(f".{secrets.token_hex(8)}.part")
    with _translated(path), held(path.parent) as folder:
        try:
            _write_under(folder, beside, content)
            # A system on which folders cannot be held.
            if folder is None:
                beside.replace(path)
            else:
                os.replace(beside.name, path.name, src_dir_fd=folder, dst_dir_fd=folder)
        except BaseException:
            with suppress(OSError):  # what failed before is raised
                remove(beside)
            raise
        _flush(folder)


def write_new(path: Path, content: bytes) -> None:
    """The same for a file that must not exist yet, also when two processes write it at one moment.

    Raises:
        FileExistsError: it exists; it was not touched.
        OutputError: the folder or the file cannot be written; nothing is left behind.
    """
    with _translated(path), held(path.parent) as folder:
        _write_under(folder, path, content)
        _flush(folder)


@contextmanager
def _translated(path: Path) -> Iterator[None]:
    try:
        yield
    except FileExistsError:
        raise
    except OSError as error:
        raise cannot_write(path, error) from error


def _write_under(folder: int | None, path: Path, content: bytes) -> None:
    """Put a whole file under a name that is not taken; raises FileExistsError when it is.

    Args:
        folder: that the file lies in, held; None where the system cannot do that.
        path: of the file.
        content: of it.
    """
    if folder is None or not hasattr(os, "O_TMPFILE"):
        _write_beside(path, content)
        return
    try:
        descriptor = os.open(".", os.O_TMPFILE | os.O_WRONLY, 0o666, dir_fd=folder)
    except OSError as error:
        if error.errno not in _NO_SUCH_FILES:
            raise
        _write_beside(path, content)
        return
    # A file without a name: whenever the program is killed, nothing of it is left.
    with os.fdopen(descriptor, "wb") as sink:
        _write_through(sink, content)
        # The descriptor of the folder makes Python use the one system call that gives such a file a
        # name.
        source = f"/proc/self/fd/{descriptor}"
        os.link(source, path.name, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=True)


def _write_beside(path: Path, content: bytes) -> None:
    """The same where the system has no files without names."""
    beside = path.with_name(f".{secrets.token_hex(8)}.part")
    try:
        with os.fdopen(opened(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as sink:
            _write_through(sink, content)
        try:
            os.link(check_no_link(beside), path)
        except FileExistsError:
            raise
        except OSError:
            # File systems without hard links: the name is taken with an empty file, which the
            # content then replaces.
            path.touch(exist_ok=False)
            beside.replace(path)
    finally:
        with suppress(OSError):  # what failed before is raised
            remove(beside)


def _write_through(sink: BinaryIO, content: bytes) -> None:
    sink.write(content)
    sink.flush()
    os.fsync(sink.fileno())


def _flush(folder: int | None) -> None:
    """Put names that were made or moved in a folder that is held on disk: without it, a power cut
    may take them back. Systems that cannot hold folders flush them by themselves.
    """
    if folder is not None:
        with suppress(OSError):  # some network file systems refuse it
            os.fsync(folder)


@dataclass(frozen=True, slots=True)
class FileState:
    """What the system says of a file; two that are equal mean that nobody has written to it in
    between.
    """

    device: int
    inode: int
    size: int
    modified_ns: int

    @classmethod
    def of(cls, path: Path) -> "FileState":
        """As it is now. Raises OSError as `stat` does."""
        found = path.stat()
        return cls(found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns)


# Linux's fcntl commands (fcntl.h); Python names no F_SETSIG.
_F_SETSIG, _F_SETLEASE, _F_RDLCK, _F_UNLCK = 10, 1024, 0, 2


def is_open_for_writing(path: Path) -> bool:
    """Whether some process has a file open for writing, as far as the system can tell.

    Linux grants a read lease only on files that nobody has open for writing, to the file's owner
    and to root. Elsewhere, and of other users' files, nobody can tell: then it is False.
    """
    if sys.platform != "linux":
        return False
    import fcntl

    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError:
        return False  # whoever reads it tells what is wrong with it
    try:
        # A writer that opens the file while we hold the lease makes the system signal us. Of the
        # default signal this process would die; this one is ignored unless somebody handles it.
        fcntl.fcntl(descriptor, _F_SETSIG, signal.SIGURG)
        fcntl.fcntl(descriptor, _F_SETLEASE, _F_RDLCK)
        fcntl.fcntl(descriptor, _F_SETLEASE, _F_UNLCK)
    except OSError as error:
        return error.errno == errno.EAGAIN
    finally:
        os.close(descriptor)
    return False


def cannot_write(path: Path, error: OSError) -> OutputError:
    """The error to raise for a failed write."""
    return OutputError(
        f"cannot be written ({reason_of(error)})",
        where=printable(path),
        advice="choose another folder, or make this one writable",
    )


def check_new_file(path: Path) -> None:
    """See, before anything is done, that a file can be written that the user has named.

    Raises:
        InputError: its folder is not there, or it cannot be written.
    """
    folder = path.parent
    if not folder.is_dir():
        raise InputError(f"there is no folder {printable(folder)}")
    if path.is_dir():
        raise InputError("is a folder, and no file", where=printable(path))
    if not os.access(path if path.exists() else folder, os.W_OK):
        raise InputError("cannot be written", where=printable(path))


def give_back_memory() -> None:
    """Return free memory to the system, where it can be done; holes between large buffers add up
    otherwise.
    """
    import ctypes

    with suppress(OSError, AttributeError):  # another C library
        ctypes.CDLL(None).malloc_trim(0)


def file_digest(path: Path) -> str:
    """`sha256:` and the hexadecimal digest of the file's bytes.

    Raises OSError as `open` does, and when it is no file: reading a pipe could wait for ever.
    """
    if not stat.S_ISREG(path.stat().st_mode):
        raise OSError(errno.EINVAL, "this is not a file", str(path))
    with path.open("rb") as source:
        return bytes_digest(iter(lambda: source.read(_DIGEST_BLOCK), b""))


def bytes_digest(blocks: Iterable[bytes]) -> str:
    """`sha256:` and the hexadecimal digest of the blocks, one after the other."""
    digest = hashlib.sha256()
    for block in blocks:
        digest.update(block)
    return f"sha256:{digest.hexdigest()}"


def user_folder() -> Path:
    """Where this user's own settings are, and what they have said yes to; it may not exist."""
    import platformdirs

    return platformdirs.user_config_path("mantisreed", appauthor=False)


def folder_at(base: Path, given: str) -> Path:
    """Where a path in the settings leads: `~` is one's home, a relative one begins in `base`."""
    return base / Path(given).expanduser()


def key_of(path: Path) -> str:
    """What tells a file from any other, as text: where it lies, with bytes that are not UTF-8
    escaped.
    """
    return os.fsencode(path.resolve()).decode("utf-8", "backslashreplace")


class MovableFolder:
    """A folder that may be moved or copied with what lies in it: its files are remembered by their
    path from there, and those elsewhere by their whole one.
    """

    def __init__(self, folder: Path) -> None:
        """Resolve it once."""
        self._folder = folder.resolve()
        self._prefix = f"{key_of(self._folder)}{os.sep}"

    def path(self, path: Path) -> Path:
        """What a file is remembered by."""
        where = path.resolve()
        if where.is_relative_to(self._folder):
            return where.relative_to(self._folder)
        return where

    def key(self, key: str) -> str:
        """The same of a key, as `key_of` and sources have them."""
        return key.removeprefix(self._prefix)


def printable(path: str | os.PathLike[str]) -> str:
    r"""A name fit for one line of a terminal or a document.

    Line breaks, control and direction characters, and bytes that are not UTF-8 appear as escapes
    (`\\n`, `\\xff`).
    """
    text = os.fspath(path)
    # Nearly all names are, and there are many.
    if text.isascii() and text.isprintable():
        return text
    return "".join(map(_escaped, text))


def _escaped(character: str) -> str:
    code = ord(character)
    if 0xDC80 <= code <= 0xDCFF:  # how Python keeps a byte that is not UTF-8
        return f"\\x{code - 0xDC00:02x}"
    if (
        unicodedata.category(character) in ("Cc", "Cf", "Cs", "Zl", "Zp")
        and character not in "\u200c\u200d"
    ):
        return character.encode("unicode_escape", "surrogatepass").decode("ascii")
    return character
