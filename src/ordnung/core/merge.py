"""Lay a host report over a reading: what the server's own system says of its devices (N1.5). Pure.

The controller's word stays: where the two disagree both are kept, and nothing is resolved silently.
"""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Callable
from dataclasses import dataclass

from ordnung.core.components import Component, Server


@dataclass(frozen=True, slots=True, kw_only=True)
class HostDevice:
    """One device as the server's own system sees it; ``address`` is its PCI address where it has one.

    ``waiting`` and ``banks`` as of a ``Component``: of drives that tell what their firmware slots hold.
    """

    kind: str
    name: str
    version: str | None = None
    serial: str | None = None
    pci: str | None = None
    address: str | None = None
    waiting: str | None = None
    banks: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class HostReport:
    """What a server's own system said, and when. ``serial`` and ``uuid`` tell which server it was."""

    taken_at: datetime.datetime
    host: str
    serial: str | None = None
    uuid: str | None = None
    devices: tuple[HostDevice, ...] = ()

    def is_of(self, server: Server) -> bool:
        """Whether the report was made on this server: by UUID or serial, never by name."""
        same = ((self.uuid, server.uuid), (self.serial, server.serial))
        return any(a and b and a.strip().lower() == b.strip().lower() for a, b in same)


def merge_host_report(server: Server, report: HostReport) -> Server:
    """The server with the report laid over it.

    A device is matched by serial, then by PCI identity, then by kind, name and version, each only where
    exactly one is left on either side, or where all that are left are alike. What matches gets the origin
    ``both``; where the versions differ the report's stands in ``reported``. What is left is added with the origin
    ``host report``.
    """
    components = list(server.components)
    left = list(report.devices)
    for rule in (_same_serial, _same_address, _same_identity):
        for place, component in enumerate(components):
            if component.origin != "controller":
                continue
            device = _only(component, components, left, rule)
            if device is not None:
                components[place] = _overlay(component, device)
                left.remove(device)
    taken = {c.slot for c in components}
    for device in left:
        slot = _free_slot(device, taken)
        taken.add(slot)
        components.append(_added(device, slot))
    return dataclasses.replace(server, components=tuple(components))


Rule = Callable[[Component, HostDevice], bool]


def _same_serial(component: Component, device: HostDevice) -> bool:
    return bool(component.serial and device.serial and _plain(component.serial) == _plain(device.serial))


def _same_address(component: Component, device: HostDevice) -> bool:
    return bool(device.address and device.address == component.slot)


def _same_identity(component: Component, device: HostDevice) -> bool:
    if component.serial and device.serial:
        return False  # both tell one, and they differ: two devices
    if component.pci and device.pci:
        return component.pci == device.pci
    if component.kind in ("bios", "controller"):
        return component.kind == device.kind
    return component.kind == device.kind and _plain(component.name) == _plain(device.name)


def _only(component: Component, components: list[Component], left: list[HostDevice], rule: Rule) -> HostDevice | None:
    """The device that belongs to a component if there is no doubt: as many of one as of the other."""
    fits = [device for device in left if rule(component, device)]
    rivals = [c for c in components if c.origin == "controller" and fits and rule(c, fits[0])]
    return fits[0] if fits and len(fits) == len(rivals) else None


def _overlay(component: Component, device: HostDevice) -> Component:
    known, versions = component.version, device.version
    untold = known is None and versions is not None and not component.is_empty
    differs = known is not None and versions is not None and _plain(known) != _plain(versions)
    return dataclasses.replace(
        component,
        origin="both",
        version=known or versions,
        untold=untold,
        updateable=False if untold else component.updateable,  # what is written could not be confirmed
        reported=versions if differs else None,
        waiting=component.waiting or device.waiting,
        banks=component.banks if len(component.banks) > 1 or not device.banks else device.banks,
        serial=component.serial or device.serial,
        pci=component.pci or device.pci,
    )


def _added(device: HostDevice, slot: str) -> Component:
    return Component(
        slot=slot,
        kind=device.kind,
        name=device.name,
        version=device.version,
        waiting=device.waiting,
        banks=device.banks or ((device.version,) if device.version else ()),
        updateable=False,  # everything is brought through the controller, and that does not list it
        pci=device.pci,
        serial=device.serial,
        origin="host report",
    )


def _free_slot(device: HostDevice, taken: set[str]) -> str:
    base = device.address or device.serial or device.name
    return next(slot for slot in (base, *(f"{base}#{n}" for n in range(2, 1000))) if slot not in taken)


def _plain(text: str) -> str:
    return " ".join(text.split()).lower()
