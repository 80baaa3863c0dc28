"""What hardware consists of: parts that carry firmware, tasks under way, accounts."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ordnung.core.versions import is_at_least, is_below


@dataclass
class Part:
    """One component as the hardware knows it."""

    slot: str
    kind: str
    name: str
    software_id: str
    version: str
    scheme: str = "dotted"
    listed: tuple[str, ...] = ()
    pci: str | None = None
    number: str = ""
    spare: str | None = None
    in_second: bool = False
    """Whether it runs the second of its banks."""
    next_bank: bool = False
    """With the next reset it starts from its other bank."""
    waiting: str | None = None
    waiting_activation: str | None = None
    waiting_rules: dict[str, Any] = field(default_factory=dict)
    floor: str | None = None
    generation: int = 1
    write_seconds: float = 60.0
    updateable: bool = True
    dead: bool = False
    away_until: float = 0.0
    """Of a power supply: it carries nothing until then."""
    shown: str | None = None
    shown_until: float = 0.0
    gone: bool = False
    """Not found any more after a reboot."""
    hidden: bool = False
    """Fitted, but the controller doesn't see it: only the server's own system does."""
    serial: str = ""
    store: str | None = None
    """Of a service partition: ``ready``, ``blank``, ``damaged``, or ``empty``: set up, and nothing on it yet."""

    def at_least(self, version: str, bound: str) -> bool:
        return is_at_least(self.scheme, version, bound, self.listed)

    def below(self, version: str, bound: str) -> bool:
        return is_below(self.scheme, version, bound, self.listed)


@dataclass
class Task:
    """An update under way or ended; ``state`` is a Redfish TaskState."""

    id: str
    slots: list[str]
    payload: dict[str, Any]
    started: float
    state: str = "Running"
    status: str = "OK"
    phase: str = "transfer"
    phase_since: float = 0.0
    phase_seconds: float = 0.0
    percent: int = 0
    ended: float | None = None
    messages: list[tuple[str, list[str]]] = field(default_factory=list)
    version: str = ""
    activation: str = ""
    rules: dict[str, Any] = field(default_factory=dict)
    name: str = "Update"
    stalls: bool = False
    lies: bool = False
    at_reset: bool = False
    """Written by the reset that it needs."""


@dataclass
class Account:
    """One account of a controller; ``role`` is one of Redfish's three standard roles."""

    user: str
    password: str
    role: str = "Administrator"
    enabled: bool = True
    locked: bool = False
    change_required: bool = False


PRIVILEGES = {
    "Administrator": frozenset({"Login", "ConfigureManager", "ConfigureUsers", "ConfigureComponents", "ConfigureSelf"}),
    "Operator": frozenset({"Login", "ConfigureComponents", "ConfigureSelf"}),
    "ReadOnly": frozenset({"Login", "ConfigureSelf"}),
}
"""The standard roles of DSP0266 with their privileges."""
