"""Tokens of the service: made, revoked, and known again by their digests alone."""

import hashlib
import hmac
import secrets
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Literal, get_args

import msgspec
from filelock import FileLock

from mantisreed.errors import InputError
from mantisreed.files import printable, write_whole
from mantisreed.folders import read
from mantisreed.state import make_folder

Scope = Literal["submit", "read", "admin"]
SCOPES: tuple[Scope, ...] = get_args(Scope)
"""Send recordings; see one's own jobs and their results; both, for all tokens' jobs, with money and
engines.
"""

_FILE = "tokens.json"
_PREFIX = "mr_"
_NAME_LENGTH = 60  # characters


class Limits(msgspec.Struct, frozen=True):
    """What a token may use; None where there is no limit.

    Attributes:
        requests_per_minute: calls of any kind.
        spend: what its jobs may cost together, in each engine's currency.
        max_bytes: of a recording.
        max_seconds: of a recording.
        max_stored: bytes of all its recordings and uploads on this machine.
    """

    requests_per_minute: int | None = None
    spend: float | None = None
    max_bytes: int | None = None
    max_seconds: float | None = None
    max_stored: int | None = None


class Token(msgspec.Struct, frozen=True):
    """A token as it is kept.

    Attributes:
        name: whose it is; their jobs are known by it.
        digest: SHA-256 of it, in hexadecimal; what it is itself is told once, when it is made.
        scopes: what it may do.
        made: seconds since 1970.
        limits: what it may use.
    """

    name: str
    digest: str
    scopes: tuple[Scope, ...]
    made: float
    limits: Limits = Limits()

    def may(self, scope: Scope) -> bool:
        """Whether it may do something."""
        return scope in self.scopes or "admin" in self.scopes


OWNER = Token("", "", ("admin",), 0.0)
"""Whoever is at this machine, where no token is set: the service only listens to it then."""


class TokenStore:
    """The tokens of a workspace, in a file that only its owner can read."""

    def __init__(self, hidden: Path) -> None:
        self._folder = hidden / "serve"
        self._file = self._folder / _FILE
        self._read: tuple[float, tuple[Token, ...]] | None = None

    def all(self) -> tuple[Token, ...]:
        """All that are not revoked, by name.

        Raises:
            InputError: the file cannot be read.
        """
        try:
            changed = self._file.stat().st_mtime_ns
        except FileNotFoundError:
            return ()
        if self._read is None or self._read[0] != changed:
            try:
                tokens = msgspec.json.decode(read(self._file), type=tuple[Token, ...])
            except (OSError, msgspec.MsgspecError) as error:
                raise InputError(
                    "the tokens cannot be read", where=printable(self._file)
                ) from error
            self._read = (changed, tokens)
        return self._read[1]

    def make(self, name: str, scopes: Sequence[str], limits: Limits) -> str:
        """Make a token; gives it, which nobody can find out later.

        Raises:
            InputError: the name is taken or none, or there is no such scope.
        """
        unknown = [scope for scope in scopes if scope not in SCOPES]
        if unknown or not scopes:
            what = (
                f"unknown scope {unknown[0]!r}"
                if unknown
                else "a token without scopes can do nothing"
            )
            raise InputError(what, where="--scopes", advice=f"scopes are {', '.join(SCOPES)}")
        if not name.strip() or len(name) > _NAME_LENGTH or not name.isprintable():
            raise InputError(f"a name has 1 to {_NAME_LENGTH} printable characters", where="NAME")
        secret = _PREFIX + secrets.token_urlsafe(32)
        with self._lock():
            tokens = self.all()
            if any(token.name == name for token in tokens):
                raise InputError(
                    f"there is a token {name!r} already", advice="revoke it, or choose another name"
                )
            made = Token(name, _digest(secret), tuple(dict.fromkeys(scopes)), time.time(), limits)  # type: ignore[arg-type]
            self._write([*tokens, made])
        return secret

    def revoke(self, name: str) -> None:
        """Make a token useless from now on.

        Raises:
            InputError: there is none of this name.
        """
        with self._lock():
            tokens = self.all()
            left = [token for token in tokens if token.name != name]
            if len(left) == len(tokens):
                raise InputError(
                    f"there is no token {name!r}", advice="`mantisreed tokens list` lists them"
                )
            self._write(left)

    def token_of(self, secret: str) -> Token | None:
        """The token that somebody has shown; None where it is none. It takes as long whatever was
        shown.
        """
        shown = _digest(secret)
        found = None
        for token in self.all():
            if hmac.compare_digest(token.digest, shown):
                found = token
        return found

    def _lock(self) -> FileLock:
        make_folder(self._folder)
        return FileLock(self._folder / "tokens.lock")

    def _write(self, tokens: Sequence[Token]) -> None:
        write_whole(self._file, msgspec.json.format(msgspec.json.encode(tokens), indent=1))
        self._file.chmod(0o600)
        self._read = None


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode("utf-8", "replace")).hexdigest()
