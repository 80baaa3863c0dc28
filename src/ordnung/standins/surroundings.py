"""What a device tells of what surrounds its firmware, and how a start may change it."""

from __future__ import annotations

from dataclasses import dataclass, field

from ordnung.standins.faults import Fault
from ordnung.standins.parts import Part

SETTINGS: dict[str, str | int | bool] = {
    "BootMode": "Uefi",
    "DirectedIo": True,
    "MemoryInterleave": "Channel",
    "PowerProfile": "Throughput",
    "RestoreOnPowerLoss": "LastState",
    "WatchdogMinutes": 15,
}
"""Made up: the names belong to nobody."""
DELIVERED = ("PowerProfile", "Balanced")
"""The setting that is lost, and how it is delivered."""
BOOT_OPTIONS = {"Boot0001": "Volume 1", "Boot0002": "Network, port 1", "Boot0003": "Virtual disc"}
FOR_GOOD = 10.0**12


@dataclass
class Surroundings:
    """Settings, boot order, volume and links of one server."""

    settings: dict[str, str | int | bool] = field(default_factory=lambda: dict(SETTINGS))
    staged: dict[str, str | int | bool] = field(default_factory=dict)
    """Settings that somebody has changed: the next start makes them active."""
    boot_order: list[str] = field(default_factory=lambda: list(BOOT_OPTIONS))
    volume_degraded: bool = False
    degraded_until: float = 0.0
    link_down_until: float = 0.0

    def change(self, fault: Fault, started: float) -> None:
        """A start does what a fault of ``CHANGING`` says; ``started``: when the start ends."""
        if fault.kind == "link stays down":
            self.link_down_until = started + (fault.seconds or FOR_GOOD)
        elif fault.kind == "boot order changed":
            self.boot_order.insert(0, self.boot_order.pop())
        elif fault.kind == "settings lost":
            self.settings[DELIVERED[0]] = DELIVERED[1]
        elif fault.kind == "volume degraded":
            self.volume_degraded = True

    def is_degraded(self, now: float) -> bool:
        """Whether its volume lacks a drive."""
        return self.volume_degraded or now < self.degraded_until

    def start(self) -> None:
        """A start makes active what was staged."""
        self.settings.update(self.staged)
        self.staged = {}

    def has_link(self, part: Part, port: int, now: float) -> bool:
        """Whether a port of a card is up: of every card the first one is, but where a fault took it."""
        return port == 1 and not part.dead and now >= self.link_down_until
