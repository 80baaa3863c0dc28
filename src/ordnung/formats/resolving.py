"""Host names: resolved when used, and every address checked before anything is sent there."""

from __future__ import annotations

import asyncio
import ipaddress
import socket

from aiohttp.abc import AbstractResolver, ResolveResult

from ordnung.formats.addresses import Networks, is_address


class NotAllowedError(OSError):
    """An address outside the networks that this house allows."""


def resolve_checked(host: str, port: int, networks: Networks | None) -> list[str]:
    """Every address of a host (itself when it is an address), each allowed. Blocks while a name is looked up.

    Raises:
        NotAllowedError: one of them lies outside.
        OSError: the name is not known.
    """
    if is_address(host):
        found = [str(ipaddress.ip_address(host))]
    else:
        resolved = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        found = list(dict.fromkeys(str(item[4][0]) for item in resolved))
    for address in found:
        if networks is not None and not networks.allows(address):
            named = host if host == address else f"{host} is {address}, which"
            raise NotAllowedError(f"{named} is not in {networks.tell()}")
    return found


class CheckedResolver(AbstractResolver):
    """Resolves names to addresses inside the allowed networks; a name with one address outside is refused whole."""

    def __init__(self, networks: Networks | None) -> None:
        """``networks``: None allows every address."""
        self.networks = networks

    async def addresses(self, host: str, port: int) -> list[str]:
        """Every address of a host (itself when it is an address), each allowed.

        Raises:
            NotAllowedError: one of them lies outside.
            OSError: the name is not known.
        """
        if is_address(host):
            return resolve_checked(host, port, self.networks)
        return await asyncio.to_thread(resolve_checked, host, port, self.networks)

    async def resolve(
        self, host: str, port: int = 0, family: socket.AddressFamily = socket.AF_UNSPEC
    ) -> list[ResolveResult]:
        """As aiohttp asks for it. Raises as ``addresses``."""
        return [
            ResolveResult(
                hostname=host, host=address, port=port,
                family=socket.AF_INET6 if ":" in address else socket.AF_INET,
                proto=socket.IPPROTO_TCP, flags=socket.AI_NUMERICHOST,
            )
            for address in await self.addresses(host, port)
            if family in (socket.AF_UNSPEC, socket.AF_INET6 if ":" in address else socket.AF_INET)
        ]  # fmt: skip

    async def close(self) -> None:
        """Nothing is kept open."""
