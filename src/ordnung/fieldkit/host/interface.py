"""Where a server's own management controller answers it: the Redfish host interface (DSP0270).

The controller tells it in SMBIOS (DSP0134), type 42 "Management Controller Host Interface", which Linux shows as a
file. Nothing is sent to find it.
"""

from __future__ import annotations

import ipaddress
from pathlib import Path

NETWORK_INTERFACE = 0x40
"""Interface type (DSP0134, 7.43): a network host interface, over a link inside the server."""
REDFISH_OVER_IP = 0x04
"""Protocol type (DSP0270, "Protocol record data format")."""
_FORMAT, _ADDRESS, _PORT, _HOST_LENGTH, _HOST = 51, 52, 84, 90, 91
"""Places in the data of a Redfish over IP record: the service's address, its port, its host name."""


def find_own_controller(root: Path = Path("/sys")) -> str | None:
    """The address of the Redfish service that the host interface names; None where there is none.

    Args:
        root: where sysfs is mounted; tests give a copy.
    """
    for entry in sorted((root / "firmware" / "dmi" / "entries").glob("42-*")):
        try:
            raw = (entry / "raw").read_bytes()
        except OSError:
            continue  # only root may read it: as if it were not there
        found = service_of(raw)
        if found is not None:
            return found
    return None


def service_of(raw: bytes) -> str | None:
    """The address in one structure of type 42; None where it names none, or is cut short."""
    if len(raw) < 7 or raw[0] != 42 or raw[4] != NETWORK_INTERFACE:
        return None
    raw = raw[: raw[1]]
    at = 6 + raw[5]
    records, at = (raw[at] if at < len(raw) else 0), at + 1
    for _ in range(records):
        if at + 2 > len(raw):
            return None
        kind, length = raw[at], raw[at + 1]
        data = raw[at + 2 : at + 2 + length]
        if kind == REDFISH_OVER_IP and len(data) == length > _PORT + 1:
            return _address(data)
        at += 2 + length
    return None


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
