"""What a reading says: servers and their components."""

from __future__ import annotations

import dataclasses
import datetime
from dataclasses import dataclass
from enum import StrEnum

from ordnung.core.facts import Facts

KINDS = ("bios", "controller", "raid", "nic", "drive", "power", "backplane", "logic", "store", "other")


class Start(StrEnum):
    """What a service partition is to the starts of its server (N4.8)."""

    POSSIBLE = "possible"
    """The server can be started from it, once."""
    NEXT = "next"
    """Its next start goes there, as somebody has chosen."""


EMPTY = ("blank", "damaged")
"""States of a service partition that has to be set up anew before it can be filled (N4.8)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Component:
    """One device of a server that carries firmware.

    ``version`` is None when the component could not be read (D9); ``waiting`` is a version
    written but not yet active; ``banks`` lists what the flash banks hold, the active one first.
    """

    slot: str
    kind: str
    name: str
    software_id: str | None = None
    version: str | None
    waiting: str | None = None
    banks: tuple[str, ...] = ()
    can_switch: bool = False
    """Whether the controller tells between which banks it can be switched."""
    updateable: bool | None = None
    pci: str | None = None
    part: str | None = None
    origin: str = "controller"
    """Who told of it: ``controller``, ``host report`` or ``both``."""
    serial: str | None = None
    uuid: str | None = None
    maker: str | None = None
    product: str | None = None
    """Who made it and what they call it, as the device tells (not a catalog)."""
    health: str | None = None
    state: str | None = None
    """Of a service partition that is not ready: ``blank`` or ``damaged``."""
    can_set_up: bool = False
    """Of a service partition: whether its controller names the one volume that it lies on, to be set up anew."""
    shared: bool = False
    """Whether it is in an enclosure that holds other servers too: no run of one server writes it."""
    by_image: bool = False
    """Whether its controller decides by the image alone what it writes: nothing can be named as what is meant."""
    start: Start | None = None
    """Of a service partition that its server can be started from."""
    untold: bool = False
    """Its controller lists it and tells no version: the one that is known is the host report's."""
    reported: str | None = None
    """The version as the host report has it, where it differs from the controller's word."""

    @property
    def is_empty(self) -> bool:
        """Whether it is a service partition with nothing on it that could be used: set up anew, it can be filled."""
        return self.version is None and self.state in EMPTY

    @property
    def standing(self) -> str:
        """Where it stands, for people: its version, or what a partition with nothing on it is; empty when unread."""
        return (self.state if self.is_empty else self.version) or ""

    @property
    def has_waiting(self) -> bool:
        """Whether a version other than the active one waits (D7, R5: by exact string here)."""
        return bool(self.waiting and self.waiting.strip() and self.waiting != self.version)


@dataclass(frozen=True, slots=True, kw_only=True)
class Server:
    """One server as one reading saw it. ``unread`` carries the reason when it gave no answer."""

    name: str
    model: str
    serial: str | None = None
    group: str | None = None
    rack: str | None = None
    room: str | None = None
    read_at: datetime.datetime | None = None
    components: tuple[Component, ...] = ()
    unread: str | None = None
    uuid: str | None = None
    tag: str | None = None
    facts: Facts | None = None

    def component(self, slot: str) -> Component | None:
        """The component in ``slot``, or None."""
        return next((c for c in self.components if c.slot == slot), None)


def controller_version(server: Server) -> str:
    """The version of its management controller; empty where that is not told."""
    return next((part.version for part in server.components if part.kind == "controller"), None) or ""


def take_by_image(server: Server) -> Server:
    """The server as one whose controller decides by the image what it writes; its own can be for nothing else."""
    marked = (c if c.kind == "controller" else dataclasses.replace(c, by_image=True) for c in server.components)
    return dataclasses.replace(server, components=tuple(marked))
