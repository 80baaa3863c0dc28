"""Host names of controllers: resolved when used, and every address checked before anything is sent there."""

from __future__ import annotations

import asyncio
import ipaddress
import socket

from aiohttp.abc import AbstractResolver, ResolveResult

from ordnung.formats.addresses import Networks


class NotAllowedError(OSError):
    """An address outside the networks where controllers may be."""


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
        try:
            found = [str(ipaddress.ip_address(host))]
        except ValueError:
            loop = asyncio.get_running_loop()
            told = await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM)
            found = list(dict.fromkeys(str(item[4][0]) for item in told))
        for address in found:
            if self.networks is not None and not self.networks.allows(address):
                named = host if host == address else f"{host} is {address}, which"
                raise NotAllowedError(f"{named} is not in {self.networks.tell()}")
        return found

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
