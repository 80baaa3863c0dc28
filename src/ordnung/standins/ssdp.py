"""Answers searches on the network for all stand-ins (DSP0266, discovery; multicast on loopback only)."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from typing import cast

GROUP = "239.255.255.250"
KIND = "urn:dmtf-org:service:redfish-rest:1"
Found = Callable[[], list[tuple[str, str]]]


class Announcer(asyncio.DatagramProtocol):
    """One socket for the whole floor; ``found`` gives (UUID, address of the root) of each server that answers."""

    def __init__(self, port: int, found: Found) -> None:
        self.port, self.found = port, found
        self.transport: asyncio.DatagramTransport | None = None

    async def start(self) -> None:
        """Join the group. Raises OSError when the port is not to be had."""
        line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        line.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        line.bind(("", self.port))
        own = socket.inet_aton("127.0.0.1")
        line.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, socket.inet_aton(GROUP) + own)
        line.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, own)
        await asyncio.get_running_loop().create_datagram_endpoint(lambda: self, sock=line)

    def stop(self) -> None:
        """Leave the group."""
        if self.transport is not None:
            self.transport.close()

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """The socket is open."""
        self.transport = cast(asyncio.DatagramTransport, transport)

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        """Answer a search for Redfish services, or for everything; once a server."""
        if self.transport is None or not _is_search(data) or not addr[0].startswith("127."):
            return
        for uuid, root in self.found():
            lines = (
                "HTTP/1.1 200 OK",
                "CACHE-CONTROL: max-age=1800",
                f"ST: {KIND}:18",
                f"USN: uuid:{uuid}::{KIND}:18",
                f"AL: {root}",
                "EXT:",
                "",
                "",
            )
            self.transport.sendto("\r\n".join(lines).encode(), addr)


def _is_search(data: bytes) -> bool:
    lines = data.decode("latin-1").split("\r\n")
    target = next((line.partition(":")[2].strip() for line in lines if line.upper().startswith("ST:")), "")
    return lines[0] == "M-SEARCH * HTTP/1.1" and (target == "ssdp:all" or target.startswith(KIND))
