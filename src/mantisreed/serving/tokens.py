"""Tokens of the service: made, revoked, and known again by their digests alone."""

import asyncio
import hashlib
import hmac
import math
import secrets
import time
from collections.abc import Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Literal, get_args

import msgspec

from mantisreed.errors import InputError, MantisreedError
from mantisreed.jobs.writer import LedgerWriter

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger

Scope = Literal["submit", "read", "admin"]
SCOPES: tuple[Scope, ...] = get_args(Scope)
"""Send recordings; see one's own jobs and their results; both, for all tokens' jobs, with money and
engines.
"""

_PREFIX = "mr_"
_NAME_LENGTH = 60  # characters
# Seconds for which the tokens count as they were read: one that is revoked lets nobody in after
# that, and a busy service does not ask the ledger at each request.
_FRESH = 0.2
_PATIENCE = 0.5  # seconds that a request waits for the ledger; after that, what is known counts
_LONG_PATIENCE = 5.0  # for a token that is not known: nothing is lost by making a stranger wait


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
    """The tokens of a ledger: all services on it know the same."""

    def __init__(self, ledger: "Ledger") -> None:
        self._ledger = ledger

    def all(self) -> tuple[Token, ...]:
        """All that are not revoked, by name.

        Raises:
            InputError: they cannot be read.
        """
        try:
            return tuple(msgspec.json.decode(one, type=Token) for one in self._ledger.tokens.all())
        except msgspec.MsgspecError as error:
            raise InputError("the tokens cannot be read", where=self._ledger.where) from error

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
        made = Token(name, _digest(secret), tuple(dict.fromkeys(scopes)), time.time(), limits)  # type: ignore[arg-type]
        if not self._ledger.tokens.add(name, msgspec.json.encode(made)):
            raise InputError(
                f"there is a token {name!r} already", advice="revoke it, or choose another name"
            )
        return secret

    def revoke(self, name: str) -> None:
        """Make a token useless from now on.

        Raises:
            InputError: there is none of this name.
        """
        if not self._ledger.tokens.remove(name):
            raise InputError(
                f"there is no token {name!r}", advice="`mantisreed tokens list` lists them"
            )


class KnownTokens:
    """The tokens as a service has read them a moment ago."""

    def __init__(self, writer: LedgerWriter, tokens: Sequence[Token] = ()) -> None:
        """Know of these tokens; `writer` asks the ledger."""
        self._writer, self._tokens = writer, tuple(tokens)
        # When the tokens that are known were asked for, by the monotonic clock.
        self._read = -math.inf
        self._reading: asyncio.Task[None] | None = None

    def all(self) -> tuple[Token, ...]:
        """All that are not revoked, by name."""
        return self._tokens

    def token_of(self, secret: str) -> Token | None:
        """The token that somebody has shown; None where it is none. It takes as long whatever was
        shown.
        """
        shown = _digest(secret)
        found = None
        for token in self._tokens:
            # It goes on when it has found one, so that the time tells nothing.
            if hmac.compare_digest(token.digest, shown):
                found = token
        return found

    async def freshen(self, shown: str | None = None) -> None:
        """See which tokens there are now, unless that was seen a moment ago. While the ledger is
        away, those count that are known.

        Args:
            shown: what a caller shows as its token. One that is not known may have been made since
                they were read, so that they are read again.
        """
        asked = time.monotonic()
        if asked - self._read >= _FRESH:
            await self._read_within(_PATIENCE)
        if shown is None or not shown.startswith(_PREFIX) or self.token_of(shown) is not None:
            return
        # Twice, because the reading that is under way may have begun before the token was made.
        for _ in range(2):
            if self._read < asked:
                await self._read_within(_LONG_PATIENCE)

    async def _read_within(self, patience: float) -> None:
        """Wait for the reading that is under way, or for a new one."""
        if self._reading is None or self._reading.done():
            self._reading = asyncio.create_task(self._freshened())
        # Not cancelled when it takes long: others wait for it too.
        await asyncio.wait({self._reading}, timeout=patience)

    async def _freshened(self) -> None:
        began = time.monotonic()
        with suppress(MantisreedError):  # the ledger is away, or its tokens cannot be read
            self._tokens = await self._writer.perform(lambda ledger: TokenStore(ledger).all())
            self._read = began


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode("utf-8", "replace")).hexdigest()
