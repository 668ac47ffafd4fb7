"""What proxies in front of the service say of a request, and the path under which it is reached."""

import ipaddress
import re
from dataclasses import dataclass

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Receive, Scope, Send

from mantisreed.errors import InputError

_PREFIX = re.compile(r"(/[A-Za-z0-9._~-]+)+")

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def prefix_given(text: str) -> str:
    """The path under which the service is reached, without a slash at its end.

    Raises:
        InputError: it is none.
    """
    prefix = text.rstrip("/")
    if prefix and not _PREFIX.fullmatch(prefix):
        raise InputError(
            f"{text!r} is no path",
            where="--root-path",
            advice="a path such as /text, of letters, digits, and . _ ~ - between slashes",
        )
    return prefix


def network_given(text: str) -> Network:
    """The address of a proxy, or a network of them.

    Raises:
        InputError: it is neither.
    """
    try:
        return ipaddress.ip_network(text, strict=False)
    except ValueError as error:
        raise InputError(
            f"{text!r} is no address and no network",
            where="--proxy",
            advice="an address such as 192.0.2.1, or a network such as 192.0.2.0/24",
        ) from error


@dataclass(frozen=True, slots=True)
class BehindProxies:
    """An application that believes named proxies, and nobody else, who a request is from.

    Attributes:
        app: what answers.
        proxies: whose headers are believed: `X-Forwarded-For`, `-Proto`, `-Host`, `-Prefix`.
        prefix: the path under which it is reached, where no proxy says another one.
    """

    app: ASGIApp
    proxies: tuple[Network, ...]
    prefix: str

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """See ASGI."""
        if scope["type"] == "http":
            scope = self._believed(dict(scope))
        await self.app(scope, receive, send)

    def _believed(self, scope: Scope) -> Scope:
        headers = Headers(scope=scope)
        prefix = self.prefix
        peer = scope["client"][0] if scope.get("client") else ""
        if self._is_proxy(peer):
            chain = ",".join(headers.getlist("x-forwarded-for")).split(",")
            scope["client"] = (self._client_of(peer, [one.strip() for one in chain]), 0)
            if headers.get("x-forwarded-proto") in ("http", "https"):
                scope["scheme"] = headers["x-forwarded-proto"]
            if host := headers.get("x-forwarded-host"):
                others = [one for one in scope["headers"] if one[0] != b"host"]
                scope["headers"] = [*others, (b"host", host.encode("latin-1"))]
            said = headers.get("x-forwarded-prefix", "").rstrip("/")
            if _PREFIX.fullmatch(said):
                prefix = said
        # Some proxies take the prefix off the path, others leave it.
        path = scope["path"]
        if prefix and (path == prefix or path.startswith(f"{prefix}/")):
            path = path[len(prefix) :] or "/"
        scope["root_path"], scope["path"] = prefix, prefix + path
        return scope

    def _client_of(self, peer: str, chain: list[str]) -> str:
        """Who has sent a request: the last address in the chain that is not a proxy of ours. What
        stands before it was written by whoever sends, and may be anything.
        """
        for address in reversed(chain):
            if not _is_address(address):
                break
            peer = address
            if not self._is_proxy(address):
                break
        return peer

    def _is_proxy(self, address: str) -> bool:
        if not _is_address(address):
            return False
        known = ipaddress.ip_address(address)
        return any(known in network for network in self.proxies)


def _is_address(text: str) -> bool:
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True
