"""Folders that are held while something is done in them, and the one place where anything is
removed.

What lies in the hidden folder of a workspace is never reached through a link: each folder on the
way is opened in the one before it, and no link is followed. Elsewhere links are their user's
business.
"""

import errno
import logging
import os
import re
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

_log = logging.getLogger(__name__)

HIDDEN_FOLDER = ".mantisreed"
"""What the tool keeps for itself, in each workspace: replies, what was sent, what it cost."""

PART = re.compile(r"\.[0-9a-f]{16}\.part")
"""Names of files that are being written, beside those that they will be."""

_ID, _DIGEST = "[0-9a-f]{8,64}(?:-second)?", "[0-9a-f]{16,64}"
_OURS = re.compile(
    "|".join(
        (
            rf"alive/{_ID}\.lock",
            r"replies/[0-9a-f]{2}/[0-9a-f]{62}\.reply",
            rf"unreadable/{_DIGEST}\.(?:reply|json)",
            r"opinions/[^/]+\.json",
            rf"storage/{_DIGEST}",
            rf"outputs/(?:stems/)?{_DIGEST}\.json",
            rf"serve/recordings/{_ID}(?:/[^/]+)?",
            rf"serve/uploads/{_ID}(?:/content)?",
            rf"serve/played(?:/{_ID}\.webm)?",
            r"standard-input/[0-9a-f]{16}(?:/[^/]+)?",
            r"live/\d{8}-\d{6}-\d{4}(?:/(?:\d{6}\.wav|phrases\.jsonl|transcripts(?:/\d{6}\.[^/]+)?))?",
        )
    ),
    re.DOTALL,
)
"""What this program has named itself in its hidden folder, as paths in it. Nothing else there is
removed."""

_NEW_STATE = re.compile(r"\.mantisreed-[0-9a-f]{32}(?:/mark)?")
"""A hidden folder that is being made."""

_REMEMBERED = re.compile(r"(?:known|trusted)/[0-9a-f]{32}\.json")
"""What the user's own configuration remembers of folders."""

IN_MEMORY = Path("/dev/shm")  # noqa: S108 - what is made there is for this user alone

TEMPORARY = re.compile(r"mantisreed-(?P<process>\d+)-\w+")
"""Names of folders for what is not kept, in memory or where the system has temporary files."""

_CAN_HOLD = os.open in os.supports_dir_fd and hasattr(os, "O_NOFOLLOW")


def is_in_state(path: Path) -> bool:
    """Whether a path lies in a hidden folder."""
    return HIDDEN_FOLDER in path.parent.parts


def _parted(path: Path) -> tuple[Path, tuple[str, ...]]:
    """The folder that may be reached through links, and the names behind it, that may not."""
    parts = path.parts
    if HIDDEN_FOLDER not in parts:
        return path, ()
    # The innermost one, should a workspace lie in the hidden folder of another.
    at = len(parts) - parts[::-1].index(HIDDEN_FOLDER)
    return Path(*parts[:at]), parts[at:]


@contextmanager
def held(folder: Path, *, make: bool = False) -> Iterator[int | None]:
    """A folder, held by a descriptor; None where the system has no such thing.

    Args:
        folder: which one.
        make: whether it is made, with those it lies in, where it is not there.

    Raises:
        OSError: it is not there, or reached through a link in a hidden folder.
    """
    if not _CAN_HOLD:
        if make:
            folder.mkdir(parents=True, exist_ok=True)
        yield None
        return
    root, names = _parted(folder)
    if make:
        root.mkdir(parents=True, exist_ok=True)
    descriptor = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for name in names:
            if make:
                with suppress(FileExistsError):  # whatever it is, it is opened below
                    os.mkdir(name, 0o777, dir_fd=descriptor)
            # One name after the other, each in the folder that is held: of a whole path, a part
            # could become a link between the check and the use.
            inner = _opened_in(descriptor, name, folder)
            os.close(descriptor)
            descriptor = inner
        yield descriptor
    finally:
        os.close(descriptor)


def _opened_in(folder: int, name: str, path: Path) -> int:
    flags = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
    try:
        return os.open(name, flags, dir_fd=folder)
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENOTDIR):
            what = "a link is in the way, and nothing here is reached through links"
            raise OSError(errno.ELOOP, what, str(path)) from error
        raise


def opened(path: Path, flags: int, mode: int = 0o666) -> int:
    """A file, opened; in a hidden folder never through a link.

    Raises:
        OSError: as `os.open` does, and for links in a hidden folder.
    """
    if not is_in_state(path):
        return os.open(path, flags | os.O_CLOEXEC, mode)
    with held(path.parent) as folder:
        if folder is None:
            return os.open(path, flags, mode)
        # Not blocking, as somebody may have put a pipe there, whose opening never returns.
        return os.open(
            path.name, flags | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, mode, dir_fd=folder
        )


def read(path: Path) -> bytes:
    """What is in a file; in a hidden folder never through a link.

    Raises:
        OSError: it cannot be read, or is no file.
    """
    with os.fdopen(opened(path, os.O_RDONLY), "rb") as source:
        if not stat.S_ISREG(os.fstat(source.fileno()).st_mode):
            raise OSError(errno.EINVAL, "this is not a file", str(path))
        return source.read()


def check_no_link(path: Path) -> Path:
    """The same path, of which nothing in a hidden folder is a link, for those who open it
    themselves.

    Raises:
        OSError: something is.
    """
    if is_in_state(path):
        with held(path.parent) as folder, suppress(FileNotFoundError):  # then it is no link
            found = os.stat(path.name, dir_fd=folder, follow_symlinks=False)
            if stat.S_ISLNK(found.st_mode):
                what = "this is a link, and nothing here is reached through links"
                raise OSError(errno.ELOOP, what, str(path))
    return path


def remove(path: Path, *, is_output: bool = False) -> bool:
    """Remove what this program has named: a file, or a folder with all that it has named in it.

    This is the only place where something is removed. What it does not know it leaves, and tells
    the log; links are never followed, and never removed.

    Args:
        path: in a hidden folder, or a file that is only half written, anywhere.
        is_output: it is an output, of which its caller has seen that it is what was written.

    Returns:
        Whether nothing of it is left.

    Raises:
        OSError: it is there, and cannot be removed.
    """
    if not (is_output or PART.fullmatch(path.name) or _is_ours(path)):
        _log.warning("%s is left: it is not by this program", path)
        return not os.path.lexists(path)
    try:
        with held(path.parent) as folder:
            return _removed(folder, path)
    except FileNotFoundError:
        return True


def forget(path: Path) -> bool:
    """The same for what harms nobody when it stays: what goes wrong is only told to the log."""
    try:
        return remove(path)
    except OSError as error:
        _log.warning("%s is left (%s)", path, error)
        return False


def _is_ours(path: Path) -> bool:
    _, names = _parted(path)
    own = path.name if _NEW_STATE.fullmatch(path.name) else "/".join(path.parts[-2:])
    return bool(
        _OURS.fullmatch("/".join(names))
        or _NEW_STATE.fullmatch(own)
        or _REMEMBERED.fullmatch(own)
        or _is_temporary(path)
    )


def _is_temporary(path: Path) -> bool:
    """Whether a path is, or lies in, a folder of this user's for what is not kept."""
    import tempfile  # only what is rare needs it

    for folder in (path, *path.parents):
        if TEMPORARY.fullmatch(folder.name) and folder.parent in (
            IN_MEMORY,
            Path(tempfile.gettempdir()),
        ):
            return os.name == "posix" and folder.lstat().st_uid == os.geteuid()
    return False


def _removed(folder: int | None, path: Path) -> bool:
    where = path if folder is None else path.name
    found = os.stat(where, dir_fd=folder, follow_symlinks=False)
    if stat.S_ISREG(found.st_mode):
        os.unlink(where, dir_fd=folder)
        return True
    if not stat.S_ISDIR(found.st_mode) or not _is_ours(path):
        _log.warning("%s is left: it is no file", path)
        return False
    with held(path) as inner:
        for name in os.listdir(path if inner is None else inner):  # noqa: PTH208 - a descriptor
            inside = path / name
            if PART.fullmatch(name) or _is_ours(inside):
                _removed(inner, inside)
            else:
                _log.warning("%s is left: it is not by this program", inside)
    try:
        os.rmdir(where, dir_fd=folder)
    except OSError as error:
        if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
            raise
        return False
    return True
