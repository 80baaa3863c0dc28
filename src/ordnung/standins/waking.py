"""What shows for a while after a controller was restarted, on those that have such manners."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware

LASTS = {"accounts late": 90.0, "clock late": 300.0}
"""For how many seconds each."""


def is_waking(device: Hardware, manner: str) -> bool:
    """Whether it has this manner, and was restarted so short a time ago that it shows."""
    since = device.now() - device.away_until
    return manner in device.quirks and device.away_until > 0 and 0 <= since < LASTS[manner]


def tell_skew(device: Hardware) -> float:
    """Seconds that its clock is ahead because it begins anew in 1970."""
    return -device.away_until if is_waking(device, "clock late") else 0.0
