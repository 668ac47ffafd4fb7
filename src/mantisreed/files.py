"""Writing whole files or none, and showing names of files that hold anything at all."""

import hashlib
import os
import secrets
import unicodedata
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from mantisreed.errors import OutputError

_DIGEST_BLOCK = 1 << 20


def write_whole(path: Path, content: bytes) -> None:
    """Write beside `path` and move into place, so that the file appears whole or not at all.

    Raises:
        OutputError: the folder or the file cannot be written; nothing is left behind.
    """
    beside = path.with_name(f".{secrets.token_hex(8)}.part")
    try:
        with beside.open("xb") as sink:
            sink.write(content)
            sink.flush()
            os.fsync(sink.fileno())
        beside.replace(path)
    except OSError as error:
        raise cannot_write(path, error) from error
    finally:
        beside.unlink(missing_ok=True) if beside.parent.is_dir() else None


def make_folder(path: Path) -> None:
    """Create a folder with its parents and see that files can be made in it.

    Raises:
        OutputError: it cannot be made or written to.
    """
    probe = path / f".{secrets.token_hex(8)}.part"
    try:
        path.mkdir(parents=True, exist_ok=True)
        probe.touch(exist_ok=False)
        probe.unlink()
    except OSError as error:
        raise cannot_write(path, error) from error


def cannot_write(path: Path, error: OSError) -> OutputError:
    """The error to raise for a failed write."""
    return OutputError(
        f"cannot be written ({(error.strerror or str(error)).lower()})",
        where=shown(path),
        advice="choose another folder, or make this one writable",
    )


def give_back_memory() -> None:
    """Return free memory to the system, where it can be done; holes between large buffers add up otherwise."""
    import ctypes

    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)


def file_digest(path: Path) -> str:
    """`sha256:` and the hexadecimal digest of the file's bytes. Raises OSError as `open` does."""
    with path.open("rb") as source:
        return bytes_digest(iter(lambda: source.read(_DIGEST_BLOCK), b""))


def bytes_digest(blocks: Iterable[bytes]) -> str:
    """`sha256:` and the hexadecimal digest of the blocks, one after the other."""
    digest = hashlib.sha256()
    for block in blocks:
        digest.update(block)
    return f"sha256:{digest.hexdigest()}"


def shown(path: str | os.PathLike[str]) -> str:
    """A name fit for one line of a terminal or a document.

    Line breaks, control and direction characters, and bytes that are not UTF-8 appear as escapes (`\\n`, `\\xff`).
    """
    return "".join(_escaped(character) for character in os.fspath(path))


def _escaped(character: str) -> str:
    code = ord(character)
    if 0xDC80 <= code <= 0xDCFF:  # how Python keeps a byte that is not UTF-8
        return f"\\x{code - 0xDC00:02x}"
    if unicodedata.category(character) in ("Cc", "Cf", "Cs", "Zl", "Zp") and character not in "\u200c\u200d":
        return character.encode("unicode_escape", "surrogatepass").decode("ascii")
    return character
