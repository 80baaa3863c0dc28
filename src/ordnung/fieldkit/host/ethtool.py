"""The firmware version of a network card, by the ioctl SIOCETHTOOL with ETHTOOL_GDRVINFO (linux/ethtool.h)."""

from __future__ import annotations

import array
import fcntl
import socket
import struct

SIOCETHTOOL, ETHTOOL_GDRVINFO = 0x8946, 0x00000003
_LAYOUT = struct.Struct("I32s32s32s32s32s12sIIIII")
"""cmd, driver, version, fw_version, bus_info, erom_version, reserved2, five counts."""


def read_driver_info(interface: str) -> tuple[str, str] | None:
    """(firmware version, bus address) of an interface as its driver tells; None when it doesn't."""
    answer = array.array("B", _LAYOUT.pack(ETHTOOL_GDRVINFO, *(b"",) * 6, *(0,) * 5))
    request = struct.pack("16sP", interface.encode()[:15], answer.buffer_info()[0])
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        try:
            fcntl.ioctl(line, SIOCETHTOOL, request)
        except OSError:
            return None
    fields = _LAYOUT.unpack(answer.tobytes())
    firmware, bus = (fields[place].partition(b"\0")[0].decode("ascii", "replace").strip() for place in (3, 4))
    return ("" if firmware.lower() in ("n/a", "none") else firmware), bus
