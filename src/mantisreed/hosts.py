"""Which hosts are on the internet, and which near this machine, where nobody whom we do not know
may lead us.
"""

import ipaddress
import socket
from typing import Any

from aiohttp.abc import AbstractResolver, ResolveResult
from aiohttp.resolver import ThreadedResolver

_NAT64 = ipaddress.IPv6Network("64:ff9b::/96")  # IPv4 addresses in IPv6 (RFC 6052, 2.1)

Address = ipaddress.IPv4Address | ipaddress.IPv6Address


def is_private(address: Address) -> bool:
    """Whether an address is not on the internet: this machine, this network, or one of its kind."""
    if (
        not address.is_global
        or address.is_multicast
        or address.is_reserved
        or address.is_unspecified
    ):
        return True
    if isinstance(address, ipaddress.IPv4Address):
        return False
    inner = address.ipv4_mapped or address.sixtofour
    if inner is None and address in _NAT64:
        inner = ipaddress.IPv4Address(int(address) & 0xFFFF_FFFF)
    return address.teredo is not None or (inner is not None and is_private(inner))


def is_written_private(host: str) -> bool:
    """Whether a host is written as an address that is private; no resolver is asked about such
    hosts.
    """
    try:
        return is_private(ipaddress.ip_address(host.partition("%")[0]))
    except ValueError:
        return False


class InternetResolver(AbstractResolver):
    """Finds addresses; unless they may be private, only those on the internet.

    The connection goes to the very address that was looked at, so that a name that leads elsewhere
    a moment later leads nobody astray.

    Attributes:
        takes_private: whether they may be.
    """

    def __init__(self, *, takes_private: bool = True) -> None:
        self.takes_private = takes_private
        self._resolver = ThreadedResolver()

    async def resolve(
        self, host: str, port: int = 0, family: Any = socket.AF_INET
    ) -> list[ResolveResult]:
        """See `AbstractResolver`.

        Raises:
            OSError: the host is not known, or near this machine.
        """
        try:
            found = await self._resolver.resolve(host, port, family)
        except (
            ValueError
        ) as error:  # a name that no host can have, as one with a part of a hundred letters
            raise OSError(f"{host[:80]!r} is no name of a host") from error
        if not self.takes_private and any(is_written_private(one["host"]) for one in found):
            raise OSError(f"{host} is not on the internet but near this machine")
        return found

    async def close(self) -> None:
        """See `AbstractResolver`."""
        await self._resolver.close()
