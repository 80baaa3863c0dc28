"""Find Redfish services on the network by SSDP (DSP0266, discovery): one search, answers for a short while."""

from __future__ import annotations

import asyncio
import re
import socket
from dataclasses import dataclass

GROUP, PORT = "239.255.255.250", 1900
KIND = "urn:dmtf-org:service:redfish-rest:1"
_UUID = re.compile(r"uuid:([0-9A-Fa-f-]{36})")
_ROOT = re.compile(r"^(https://[^/\s]+)/redfish/v1/?$")
MOST = 8192


@dataclass(frozen=True, slots=True)
class Announced:
    """One service that answered: its root's UUID and its address as a URL without a path."""

    uuid: str
    url: str


class _Ear(asyncio.DatagramProtocol):
    def __init__(self) -> None:
        self.found: dict[str, Announced] = {}

    def datagram_received(self, data: bytes, _: tuple[str, int]) -> None:
        answer = read_answer(data)
        if answer is not None and len(self.found) < MOST:
            self.found.setdefault(answer.uuid, answer)


def read_answer(data: bytes) -> Announced | None:
    """What an answer to a search says, or None when it isn't one of a Redfish service."""
    lines = data.decode("latin-1").split("\r\n")
    if not lines[0].startswith("HTTP/1.1 200"):
        return None
    fields = {k.strip().upper(): v.strip() for k, _, v in (line.partition(":") for line in lines[1:])}
    uuid, root = _UUID.search(fields.get("USN", "")), _ROOT.match(fields.get("AL", ""))
    if uuid is None or root is None or KIND not in fields.get("USN", ""):
        return None
    return Announced(uuid[1].lower(), root[1])


async def search(interface: str, wait_s: float = 3.0, port: int = PORT) -> list[Announced]:
    """Every Redfish service that answers a search on the network of an interface, each once.

    Args:
        interface: the address of our own interface there.

    Raises:
        OSError: the interface can't be used.
    """
    line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    line.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(interface))
    line.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 2)
    line.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 * 1024 * 1024)
    line.bind((interface, 0))
    ear = _Ear()
    transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(lambda: ear, sock=line)
    try:
        asked = ("M-SEARCH * HTTP/1.1", f"HOST: {GROUP}:{port}", 'MAN: "ssdp:discover"', "MX: 2", f"ST: {KIND}", "", "")
        transport.sendto("\r\n".join(asked).encode(), (GROUP, port))
        await asyncio.sleep(wait_s)
    finally:
        transport.close()
    return sorted(ear.found.values(), key=lambda answer: answer.url)
