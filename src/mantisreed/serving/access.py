"""Who may do what: tokens, rates, and pages of other places that a browser has open."""

import hmac
import ipaddress
import secrets
import time
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.requests import Request

from mantisreed.serving.orders import Order
from mantisreed.serving.problems import Problem
from mantisreed.serving.tokens import OWNER, KnownTokens, Scope, Token

_WINDOW = 60.0  # seconds over which rates are kept
_WRONG_TOKENS = 60  # that one address may show in a window
_TICKET_LASTS = 12 * 3600.0  # seconds


def is_loopback(host: str) -> bool:
    """Whether a host to listen on can only be reached from this machine."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return False


def shown_token(headers: Headers) -> str | None:
    """What a request shows as its token: empty where it is none of ours, None where it shows
    nothing.
    """
    given = headers.get("authorization", "")
    scheme, _, secret = given.partition(" ")
    if not given:
        return None
    return secret.strip() if scheme.lower() == "bearer" else ""


@dataclass(slots=True)
class Access:
    """Lets requests in, or says why not.

    Attributes:
        store: the tokens.
        is_open: whether whoever is at this machine needs no token while there is none.
        origins: addresses of other pages that may use the service.
        clock: seconds.
        key: with which tickets are signed; services with the same one take each other's.
    """

    store: KnownTokens
    is_open: bool
    origins: tuple[str, ...] = ()
    clock: Callable[[], float] = time.monotonic
    key: bytes = field(default_factory=lambda: secrets.token_bytes(32))
    _uses: dict[str, deque[float]] = field(default_factory=dict)

    def token(self, request: Request, scope: Scope) -> Token:
        """The token of a request that may do this.

        Raises:
            Problem: it has none, one that is not known, or one that may not; or it comes too often.
        """
        self._check_origin(request)
        token = self._shown(request)
        if not token.may(scope):
            raise Problem(
                403, f"this token may not {scope}", advice="ask its owner for another scope"
            )
        limit = token.limits.requests_per_minute
        if limit is not None:
            self._count(f"token {token.name}", limit, "requests of this token")
        return token

    def knows(self, token: Token) -> bool:
        """Whether a token that was shown before still lets anybody in."""
        known = self.store.all()
        return token in known if token is not OWNER else self.is_open and not known

    def _shown(self, request: Request) -> Token:
        ticket = request.query_params.get("ticket")
        if ticket is not None and (token := self._of_ticket(ticket, request)) is not None:
            return token
        shown = shown_token(request.headers)
        if shown is None:
            if self.is_open and not self.store.all():
                return OWNER
            raise Problem(
                401,
                "there is no token",
                advice="send Authorization: Bearer TOKEN",
                headers={"WWW-Authenticate": "Bearer"},
            )
        token = self.store.token_of(shown)
        if token is None:
            address = request.client.host if request.client else "?"
            self._count(f"address {address}", _WRONG_TOKENS, "wrong tokens")
            raise Problem(401, "this token is unknown", headers={"WWW-Authenticate": "Bearer"})
        return token

    def _count(self, who: str, limit: int, what: str) -> None:
        """Count one use in the last minute.

        Raises:
            Problem: there are more than may be.
        """
        now = self.clock()
        uses = self._uses.setdefault(who, deque())
        while uses and uses[0] <= now - _WINDOW:
            uses.popleft()
        if len(uses) >= limit:
            wait = uses[0] + _WINDOW - now
            raise Problem(429, f"more than {limit} {what} in a minute", retry_after=wait)
        uses.append(now)
        if len(self._uses) > 10_000:  # nobody fills the memory with addresses
            self._uses = {
                name: moments
                for name, moments in self._uses.items()
                if moments and moments[-1] > now - _WINDOW
            }

    def _check_origin(self, request: Request) -> None:
        """See that no page of another place uses the service through a browser that is open on this
        machine.

        Raises:
            Problem: one does.
        """
        host = request.headers.get("host", "")
        origin = request.headers.get("origin")
        if origin is not None and origin not in self.origins and urlsplit(origin).netloc != host:
            raise Problem(
                403,
                f"pages of {origin[:100]} may not use this service",
                advice="--cors ORIGIN allows one",
            )
        name = urlsplit(f"//{host}").hostname or ""
        # A name that leads here only since a moment ago is how pages get around the rule above.
        if self.is_open and not self.store.all() and not is_loopback(name):
            raise Problem(
                403,
                f"{host[:100]} is not how this service is called",
                advice="use 127.0.0.1 or localhost",
            )

    def ticket(self, order: Order, token: Token) -> str:
        """What opens the page of one job in a browser, which cannot show a token."""
        until = str(int(time.time() + _TICKET_LASTS))
        name = token.name.encode().hex()
        return f"{until}.{name}.{self._signature(order.id, until, name)}"

    def _of_ticket(self, ticket: str, request: Request) -> Token | None:
        until, _, rest = ticket.partition(".")
        name, _, signature = rest.partition(".")
        known = request.path_params.get("job", "")
        expected = self._signature(known, until, name)
        if not hmac.compare_digest(signature.encode("utf-8", "replace"), expected.encode()):
            return None
        if not until.isdecimal() or int(until) < time.time():
            return None
        known_tokens = self.store.all()
        # What was opened while there was no token is closed by the first one.
        owners = (OWNER,) if self.is_open and not known_tokens else ()
        return next(
            (one for one in (*known_tokens, *owners) if one.name.encode().hex() == name), None
        )

    def _signature(self, *parts: str) -> str:
        return hmac.digest(self.key, "|".join(parts).encode("utf-8", "replace"), "sha256").hex()


def own(token: Token, orders: Iterable[Order]) -> Iterable[Order]:
    """The jobs that a token may see: its own; with the scope `admin` all."""
    return (order for order in orders if sees(token, order))


def sees(token: Token, order: Order) -> bool:
    """Whether a token may see a job."""
    return "admin" in token.scopes or order.owner == token.name
