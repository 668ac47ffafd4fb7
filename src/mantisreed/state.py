"""The state of a workspace, the hidden folder beside its settings: whose it is, and how it is
made.

A folder from elsewhere may bring a hidden folder of its own, with jobs that name recordings,
folders and engines. So state belongs to whoever has made it: a mark in it is known to that user's
own configuration, together with the folder itself, so that a copy of it is a stranger as well.
State that is not known is not used.
"""

import hashlib
import os
import secrets
import socket
import time
from contextlib import suppress
from pathlib import Path

import msgspec

from mantisreed.errors import OutputError
from mantisreed.files import cannot_write, printable, user_folder, write_new, write_whole
from mantisreed.folders import HIDDEN_FOLDER, forget, held, opened, read, remove

MARK_FILE = "mark"
_KNOWN_FOLDER = "known"
_MACHINE_FILE = Path("/etc/machine-id")


class _KnownFolder(msgspec.Struct, frozen=True):
    """State that its user has made, or taken as their own.

    Attributes:
        folder: where it was then.
        inode: of the folder: moved it is the same, copied it is another.
        since: seconds since 1970.
    """

    folder: str
    inode: int
    since: float


def is_known(hidden: Path) -> bool:
    """Whether a hidden folder may be used: it is this user's, or there is nothing in it."""
    try:
        inode = hidden.stat().st_ino
        if not any(hidden.iterdir()):
            return True
        token = read(hidden / MARK_FILE).decode("ascii")
        known = msgspec.json.decode(read(_place_of(token)), type=_KnownFolder)
    except FileNotFoundError:
        return not os.path.lexists(hidden)
    except (OSError, UnicodeDecodeError, msgspec.MsgspecError):
        return False
    return known.inode == inode


def adopt(hidden: Path) -> None:
    """Take a hidden folder as this user's own.

    Raises:
        OutputError: it, or the user's configuration, cannot be written.
    """
    if not hidden.is_dir():
        return
    token = secrets.token_hex(16)
    write_whole(hidden / MARK_FILE, token.encode())
    _remember(hidden, token)


def place_of(hidden: Path) -> str:
    """Which files a workspace's paths lead to: `MACHINE/STATE`, both as digests.

    A path means the same where either is the same: on one machine, or in one folder that several
    machines share.
    """
    machine = this_machine()
    try:
        mark = read(hidden / MARK_FILE)
    except OSError:
        mark = b""  # nothing was kept there yet
    return f"{_short_digest(machine.encode())}/{_short_digest(mark) if mark else ''}"


def this_machine() -> str:
    """What this machine is known by, among others."""
    try:
        known = _MACHINE_FILE.read_text("ascii").strip()
    except (OSError, UnicodeDecodeError):
        known = ""  # a system without one, or a container; its host name has to do
    return f"{socket.gethostname()} {known}"


def is_same_place(one: str, other: str) -> bool:
    """Whether paths of two places lead to the same files; so far as it is known."""
    if not one or not other:
        return True
    pairs = zip(one.split("/"), other.split("/"), strict=True)
    return any(left == right != "" for left, right in pairs)


def _short_digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()[:16]


def make_folder(path: Path) -> None:
    """Create a folder with its parents and see that files can be made in it.

    A hidden folder that is new is for its owner alone, whatever the umask says, and known from now
    on.

    Raises:
        OutputError: it cannot be made or written to.
    """
    probe = path / f".{secrets.token_hex(8)}.part"
    try:
        for folder in (path, *path.parents):
            if folder.name == HIDDEN_FOLDER:
                _make_state(folder)
        with held(path, make=True):
            pass
        os.close(opened(probe, os.O_WRONLY | os.O_CREAT | os.O_EXCL))
        remove(probe)
    except OSError as error:
        raise cannot_write(path, error) from error


def _make_state(hidden: Path) -> None:
    """A hidden folder that appears with its mark in it: no other process sees it without."""
    if os.path.lexists(hidden):
        is_mine = os.name == "posix" and hidden.stat().st_uid == os.geteuid()
        if is_mine and hidden.stat().st_mode & 0o077:
            hidden.chmod(0o700)
        if not any(hidden.iterdir()):
            adopt(hidden)
        return
    hidden.parent.mkdir(parents=True, exist_ok=True)
    token = secrets.token_hex(16)
    beside = hidden.with_name(f"{HIDDEN_FOLDER}-{token}")
    beside.mkdir(mode=0o700)
    write_new(beside / MARK_FILE, token.encode())
    with suppress(OutputError):  # the next command asks whether it is one's own
        _remember(beside, token)
    try:
        beside.rename(hidden)
    except OSError:
        # Another process was first; what it has made is as good.
        forget(beside)
        if not hidden.is_dir():
            raise


def _remember(hidden: Path, token: str) -> None:
    place = _place_of(token)
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        known = _KnownFolder(printable(hidden.resolve()), hidden.stat().st_ino, time.time())
    except OSError as error:
        raise cannot_write(place, error) from error
    write_whole(place, msgspec.json.encode(known))


def _place_of(token: str) -> Path:
    name = hashlib.sha256(token.encode("ascii")).hexdigest()[:32]
    return user_folder() / _KNOWN_FOLDER / f"{name}.json"
