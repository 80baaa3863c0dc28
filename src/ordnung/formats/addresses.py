"""Addresses as people write them: single ones, ranges, networks; and which networks are allowed."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable
from dataclasses import dataclass

from ordnung.formats.errors import FormatError

MOST = 8192
"""Addresses one entry of a person may stand for: a /19. More is a slip of the pen."""
HTTPS_PORT = 443
Ip = ipaddress.IPv4Address | ipaddress.IPv6Address
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
_RANGE = re.compile(r"^(?P<first>[0-9A-Fa-f.:]+?)\s*[-–]\s*(?P<last>[0-9A-Fa-f.:]+?)$")
_PORT = re.compile(r"^(?P<rest>\[[^\]]+\]|[^:\s]+):(?P<port>\d{1,5})$")
_LABEL = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?", re.ASCII)
_URL = re.compile(r"^https://(?P<rest>[^/\s]+)/?$")


@dataclass(frozen=True, slots=True, order=True)
class Address:
    """Where a controller may be."""

    host: str
    port: int = HTTPS_PORT

    @property
    def url(self) -> str:
        """The address as a URL without a path."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"https://{host}" + (f":{self.port}" if self.port != HTTPS_PORT else "")


def parse_addresses(text: str, source: str = "addresses") -> tuple[Address, ...]:
    """The addresses of a text: one entry a line or between commas, each a single address, a range or a network.

    ``10.0.0.7``, ``10.0.0.7:8443``, ``https://10.0.0.7:8443``, ``10.0.0.7-10.0.0.40``, ``10.0.0.7-40``,
    ``10.0.0.0/24`` (network and broadcast address left out), ``bmc-07.example``, each optionally with ``:port``.
    A host name stays a name: it is resolved, and what it resolves to checked, each time it is used. Doubles are
    dropped.

    Raises:
        FormatError: an entry that is none of these, or more than ``MOST`` addresses; names the entry.
    """
    found: dict[Address, None] = {}
    for entry in re.split(r"[\n,;]+", text):
        if entry.strip():
            for address in _parse_entry(entry.strip(), source):
                found[address] = None
            if len(found) > MOST:
                raise FormatError(source, entry.strip(), f"more than {MOST} addresses")
    return tuple(found)


def _parse_entry(entry: str, source: str) -> Iterable[Address]:
    text, port = entry, HTTPS_PORT
    if url := _URL.match(text):
        text = url["rest"]
    if (match := _PORT.match(text)) and (text.count(":") == 1 or text.startswith("[")):
        text, port = match["rest"], int(match["port"])
        if not 0 < port < 65536:
            raise FormatError(source, entry, f"{port} is no port")
    text = text.strip("[]")
    if "/" in text:
        return [Address(str(ip), port) for ip in _network(text, entry, source)]
    match = _RANGE.match(text)
    if match and is_address(match["first"]):
        return [Address(str(ip), port) for ip in _range(match["first"], match["last"], entry, source)]
    if is_host_name(text):
        return [Address(text.lower(), port)]
    return [Address(str(_ip(text, entry, source)), port)]


def is_host_name(text: str) -> bool:
    """Whether a text is a host name (RFC 1123, 2.1): labels of letters, digits and dashes, the last not all digits."""
    labels = text.removesuffix(".").split(".")
    is_named = all(_LABEL.fullmatch(label) for label in labels) and not labels[-1].isdigit()
    return len(text) <= 253 and is_named and not is_address(text)


def is_address(text: str) -> bool:
    """Whether a text is an IP address."""
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True


def _ip(text: str, entry: str, source: str) -> Ip:
    try:
        return ipaddress.ip_address(text)
    except ValueError:
        raise FormatError(
            source, entry, "not an address, a range (first-last), a network (address/bits) or a name"
        ) from None


def _network(text: str, entry: str, source: str) -> list[Ip]:
    try:
        network = ipaddress.ip_network(text, strict=False)
    except ValueError:
        raise FormatError(source, entry, "not a network (address/bits)") from None
    if network.num_addresses > MOST:
        raise FormatError(source, entry, f"{network.num_addresses} addresses; {MOST} at most")
    return list(network.hosts())


def _range(first: str, last: str, entry: str, source: str) -> list[Ip]:
    start = _ip(first, entry, source)
    if last.isascii() and last.isdigit() and isinstance(start, ipaddress.IPv4Address):
        last = f"{first.rpartition('.')[0]}.{last}"
    end = _ip(last, entry, source)
    if start.version != end.version or int(end) < int(start):
        raise FormatError(source, entry, "the last address comes before the first")
    if int(end) - int(start) >= MOST:
        raise FormatError(source, entry, f"{int(end) - int(start) + 1} addresses; {MOST} at most")
    return [start + step for step in range(int(end) - int(start) + 1)]


@dataclass(frozen=True, slots=True)
class Networks:
    """Networks that are allowed, and parts of them that are not."""

    allowed: tuple[Network, ...]
    barred: tuple[Network, ...] = ()

    def allows(self, host: str) -> bool:
        """Whether an address lies in one of them; a name never does.

        An IPv4 address in IPv6 clothes (RFC 4291, 2.5.5.2) is taken for what it is.
        """
        try:
            ip = ipaddress.ip_address(host)
        except ValueError:
            return False
        if isinstance(ip, ipaddress.IPv6Address) and ip.ipv4_mapped is not None:
            ip = ip.ipv4_mapped
        return _lies_in(ip, self.allowed) and not _lies_in(ip, self.barred)

    def tell(self) -> str:
        """All of them, in words."""
        message = ", ".join(str(network) for network in self.allowed)
        return message + (f" without {', '.join(str(network) for network in self.barred)}" if self.barred else "")


def _lies_in(ip: Ip, networks: tuple[Network, ...]) -> bool:
    return any(ip in network for network in networks if network.version == ip.version)


def parse_networks(text: str) -> Networks:
    """Networks between commas, those to leave out with ``!`` before them. Raises ValueError for one that is none."""
    pieces = [piece.strip() for piece in text.split(",") if piece.strip()]
    allowed = tuple(ipaddress.ip_network(piece) for piece in pieces if not piece.startswith("!"))
    return Networks(allowed, tuple(ipaddress.ip_network(piece[1:]) for piece in pieces if piece.startswith("!")))
