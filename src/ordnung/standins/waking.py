"""What shows for a while after a controller was restarted, on those that have such manners."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware
    from ordnung.standins.parts import Part

LASTS = {"accounts late": 90.0, "resets untold": 90.0, "clock late": 300.0, "versions late": 150.0}
"""For how many seconds each."""
PIECE_S = 25.0
"""How long after one another it lists its parts, on one that lists them one by one."""


def listed(device: Hardware) -> list[Part]:
    """The parts that it knows of by now; itself and the BIOS it always knows."""
    since = max(device.away_until, device.boot_until)
    if "listed one by one" not in device.quirks or not since:
        return device.parts
    known = (device.now() - since) // PIECE_S
    return [part for n, part in enumerate(device.parts, 1) if n <= known or part.kind in ("controller", "bios")]


def has_read_versions(device: Hardware, part: Part) -> bool:
    """Whether it has asked this part for its version since the last start, and was told it."""
    if any(fault.kind == "version untold" and fault.slot in (None, part.slot) for fault in device.faults):
        return False
    since = max(device.away_until, device.boot_until)
    is_late = "versions late" in device.quirks and since and part.kind != "controller"
    return not is_late or device.now() - since >= LASTS["versions late"]


def is_waking(device: Hardware, manner: str) -> bool:
    """Whether it has this manner, and was restarted so short a time ago that it shows."""
    since = device.now() - device.away_until
    return manner in device.quirks and device.away_until > 0 and 0 <= since < LASTS[manner]


def tell_skew(device: Hardware) -> float:
    """Seconds that its clock is ahead because it begins anew in 1970."""
    return -device.away_until if is_waking(device, "clock late") else 0.0
