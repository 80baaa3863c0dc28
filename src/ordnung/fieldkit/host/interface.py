"""Where a server's own management controller answers it: the Redfish host interface (DSP0270).

The controller tells it in SMBIOS (DSP0134), type 42 "Management Controller Host Interface", which Linux shows as a
file. Nothing is sent to find it.
"""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from enum import IntEnum
from pathlib import Path
from urllib.parse import urlsplit

NETWORK_INTERFACE = 0x40
"""Interface type (DSP0134, 7.43): a network host interface, over a link inside the server."""
REDFISH_OVER_IP = 0x04
"""Protocol type (DSP0270, "Protocol record data format")."""
_ASSIGNMENT, _OWN_FORMAT, _OWN, _OWN_MASK = 16, 17, 18, 34
_FORMAT, _ADDRESS, _PORT, _HOST_LENGTH, _HOST = 51, 52, 84, 90, 91
"""Places in the data of a Redfish over IP record: the host's own address; the service's, its port, its host name."""
_USB_V2, _PCI_V2 = 0x04, 0x05
_MAC = {_USB_V2: 7, _PCI_V2: 10}
_TRAITS = {_USB_V2: 13, _PCI_V2: 20}
"""Where a device descriptor of version 2 has its hardware address and its characteristics."""
_BOOTSTRAPS = 0x01


class Assignment(IntEnum):
    """How the host comes by its own address on the link (DSP0270, "Host IP assignment type")."""

    UNKNOWN = 0
    STATIC = 1
    DHCP = 2
    AUTOMATIC = 3
    HOST_SELECTED = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class HostInterface:
    """The link to the own controller: its service, and which link it is where that is told.

    ``own`` is the address that this host is to have there, with its prefix; ``bootstraps``: the controller hands out a
    user of its own over IPMI.
    """

    url: str
    mac: str = ""
    assignment: Assignment = Assignment.UNKNOWN
    own: str = ""
    bootstraps: bool = False


def find_own_controller(root: Path = Path("/sys")) -> str | None:
    """The address of the Redfish service that the host interface names; None where there is none."""
    found = find_host_interface(root)
    return over(own_link(found, root), found.url) if found is not None else None


def find_host_interface(root: Path = Path("/sys")) -> HostInterface | None:
    """The first Redfish host interface that SMBIOS tells of; None where there is none.

    Args:
        root: where sysfs is mounted; tests give a copy.
    """
    for entry in sorted((root / "firmware" / "dmi" / "entries").glob("42-*")):
        try:
            raw = (entry / "raw").read_bytes()
        except OSError:
            continue  # only root may read it: as if it were not there
        found = read_interface(raw)
        if found is not None:
            return found
    return None


def read_interface(raw: bytes) -> HostInterface | None:
    """What one structure of type 42 tells; None where it names no Redfish service, or is cut short."""
    if len(raw) < 7 or raw[0] != 42 or raw[4] != NETWORK_INTERFACE:
        return None
    raw = raw[: raw[1]]
    at = 6 + raw[5]
    device = raw[6:at]
    records, at = (raw[at] if at < len(raw) else 0), at + 1
    for _ in range(records):
        if at + 2 > len(raw):
            return None
        kind, length = raw[at], raw[at + 1]
        data = raw[at + 2 : at + 2 + length]
        if kind == REDFISH_OVER_IP and len(data) == length > _PORT + 1:
            url = _address(data)
            return _describe(url, data, device) if url is not None else None
        at += 2 + length
    return None


def _describe(url: str, data: bytes, device: bytes) -> HostInterface:
    kind = device[0] if device else 0
    mac = device[_MAC[kind] : _MAC[kind] + 6] if kind in _MAC else b""
    traits = device[_TRAITS[kind]] if kind in _TRAITS and len(device) > _TRAITS[kind] else 0
    given = data[_ASSIGNMENT]
    return HostInterface(
        url=url,
        mac=mac.hex(":") if len(mac) == 6 and any(mac) else "",
        assignment=Assignment(given) if given in tuple(Assignment) else Assignment.UNKNOWN,
        own=_own(data),
        bootstraps=bool(traits & _BOOTSTRAPS),
    )


def _own(data: bytes) -> str:
    """The host's own address with its prefix; empty where none is told."""
    size = {1: 4, 2: 16}.get(data[_OWN_FORMAT], 0)
    packed, mask = data[_OWN : _OWN + size], data[_OWN_MASK : _OWN_MASK + size]
    if not any(packed):
        return ""
    return f"{ipaddress.ip_address(packed)}/{int.from_bytes(mask, 'big').bit_count() or size * 8}"


def _address(data: bytes) -> str | None:
    port = int.from_bytes(data[_PORT : _PORT + 2], "little") or 443
    packed = data[_ADDRESS : _ADDRESS + 16]
    match data[_FORMAT]:
        case 1 if any(packed[:4]):
            return f"https://{ipaddress.IPv4Address(packed[:4])}:{port}"
        case 2 if any(packed):
            return f"https://[{ipaddress.IPv6Address(packed)}]:{port}"
    length = data[_HOST_LENGTH] if len(data) > _HOST_LENGTH else 0
    name = data[_HOST : _HOST + length].rstrip(b"\0").decode("ascii", "replace")
    return f"https://{name}:{port}" if name and name.replace("-", "").replace(".", "").isalnum() else None


def own_link(interface: HostInterface, sysfs: Path) -> str:
    """Which link leads to the own controller: by its hardware address, else the only one over USB; empty if unknown.

    Some controllers tell the address of their own end of the link.
    """
    links = sorted(path for path in (sysfs / "class" / "net").glob("*") if path.name != "lo")
    told = [path.name for path in links if interface.mac and _read(path / "address") == interface.mac]
    if told:
        return told[0]
    over_usb = [path.name for path in links if "/usb" in str((path / "device").resolve())]
    return over_usb[0] if len(over_usb) == 1 else ""


def over(link: str, url: str) -> str:
    """An address of one link is none without the link that it is on (RFC 4007; in addresses as RFC 6874 has it)."""
    parts = urlsplit(url)
    try:
        is_of_link = ipaddress.ip_address(parts.hostname or "").is_link_local and "[" in parts.netloc
    except ValueError:
        is_of_link = False
    return url.replace("]", f"%25{link}]", 1) if is_of_link and link else url


def _read(path: Path) -> str:
    try:
        return path.read_text().strip().lower()
    except OSError:
        return ""
