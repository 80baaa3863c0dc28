"""What is fitted, by walking Systems, Chassis and Managers: new and old shapes of the resources alike."""

from __future__ import annotations

import asyncio
import datetime
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

from ordnung.controllers.answers import Json, as_dict, as_list, as_text, link_of
from ordnung.controllers.belonging import linked, own_manager, own_path, which_are_shared
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.reader import Reader, gather
from ordnung.controllers.systems import with_unlisted

DEEP = 5
"""How many levels below a collection are asked for at once where that is offered."""
_PCI = ("VendorId", "DeviceId", "SubsystemVendorId", "SubsystemId")


@dataclass(slots=True, eq=False)
class Fitted:
    """One device as the tree tells of it; ``paths`` are the resources an inventory entry may point to."""

    slot: str
    kind: str
    name: str
    version: str | None
    paths: tuple[str, ...]
    number: str | None = None
    serial: str | None = None
    health: str | None = None
    uuid: str | None = None
    maker: str | None = None
    product: str | None = None
    """Its model name, as its maker calls it."""
    pci: str | None = None
    active: str | None = None
    """The inventory member that it says it runs, or starts from next."""
    images: tuple[str, ...] = ()
    """All those that it could start from, where it tells."""
    is_alone: bool = True
    """Whether ``paths`` name this device and no other."""
    is_shared: bool = False
    """Whether it is in a chassis that holds other servers too."""
    body: Json = field(default_factory=dict)


@dataclass(slots=True)
class Found:
    """Everything of the tree that a reading needs."""

    system: Json
    manager: Json
    chassis: list[Json]
    """Those that are this server's, or hold it and others."""
    everywhere: list[Json]
    """All chassis that its controller tells of."""
    storages: list[Json]
    parts: list[Fitted]
    managed_at: datetime.datetime
    """When the manager, with its clock, was read."""
    others: int = 0
    """How many more systems stand behind the same controller."""

    def owns(self, path: str) -> bool:
        """Whether a resource is this server's, or one of the controller that serves several."""
        roots = [link_of(one) for one in (self.system, self.manager, *self.chassis)]
        at = path.rstrip("/")
        return any(root and (at == root.rstrip("/") or at.startswith(f"{root.rstrip('/')}/")) for root in roots)


async def read_fitted(
    reader: Reader, root: Json, now: Callable[[], datetime.datetime], own: str | None = None
) -> Found:
    """Walk the tree. What is missing is simply not there.

    Args:
        own: the path of the server's system, where the controller serves several; the managers and chassis that
            belong to it are those it links to.

    Raises:
        ControllerError: the controller can't be used, or has no such system (any more).
    """
    systems, chassis, (managers, managed_at) = await asyncio.gather(
        reader.members(link_of(root.get("Systems")), DEEP),
        reader.members(link_of(root.get("Chassis")), DEEP),
        _timed(lambda: reader.members(link_of(root.get("Managers")), 1), now),
    )
    system = _own_system(reader.name, systems, own)
    chassis = await with_unlisted(reader.find, system, chassis)
    everywhere = chassis
    shared_at = {own_path(one) for one, at in zip(chassis, which_are_shared(system, chassis), strict=True) if at}
    others = sum(1 for one in systems if one is not system)
    if others:
        chassis, managers = linked(system, "Chassis", chassis), linked(system, "ManagedBy", managers)
    manager, shared = own_manager(system, managers), [own_path(one) in shared_at for one in chassis]
    storages = await reader.members(link_of(system.get("Storage")), 2)
    groups = await gather(
        [
            _read_own(reader, system, manager),
            *(_read_storage(reader, storage) for storage in storages),
            _read_cards(reader, system, chassis, shared),
            *(_read_power(reader, one, is_shared=at) for one, at in zip(chassis, shared, strict=True)),
        ]
    )
    parts = [part for group in groups for part in group]
    await gather(_add_pci(reader, part) for part in parts)
    return Found(system, manager, chassis, everywhere, storages, parts, managed_at, others)


def _own_system(name: str, systems: list[Json], own: str | None) -> Json:
    if not systems:  # one that wakes may have its service root before it has anything else
        raise ControllerError(name, "malformed answer", "it tells of no system")
    if own is None:
        return systems[0]
    found = next((one for one in systems if own_path(one) == own.rstrip("/")), None)
    if found is None:
        raise ControllerError(name, "said no", f"its controller has no system {own} any more")
    return found


async def _timed(
    ask: Callable[[], Awaitable[list[Json]]], now: Callable[[], datetime.datetime]
) -> tuple[list[Json], datetime.datetime]:
    return await ask(), now()


async def _read_own(reader: Reader, system: Json, manager: Json) -> list[Fitted]:
    bios = await reader.find(link_of(system.get("Bios"))) or {}
    own = tuple(path for path in (link_of(bios), link_of(system)) if path)
    version = as_text(system.get("BiosVersion"))
    parts = [Fitted("bios", "bios", "BIOS", version, own, active=_active(bios), images=_images(bios))]
    if manager:
        version, path = as_text(manager.get("FirmwareVersion")), link_of(manager)
        slot, name = "controller", as_text(manager.get("Name")) or "Management controller"
        paths = (path,) if path else ()
        parts.append(Fitted(slot, "controller", name, version, paths, active=_active(manager), images=_images(manager)))
    return parts


def _active(body: Json) -> str | None:
    return link_of(as_dict(body.get("Links")).get("ActiveSoftwareImage"))


def _images(body: Json) -> tuple[str, ...]:
    links = as_list(as_dict(body.get("Links")).get("SoftwareImages"))
    return tuple(path for image in links if (path := link_of(image)))


async def _read_storage(reader: Reader, storage: Json) -> list[Fitted]:
    controllers = await reader.members(link_of(storage.get("Controllers")))
    if not controllers:
        controllers = as_list(storage.get("StorageControllers"))
    drives = await gather(reader.find(link_of(drive)) for drive in as_list(storage.get("Drives")))
    own = link_of(storage)
    parts = [_device(body, "raid", "FirmwareVersion", own if len(controllers) == 1 else None) for body in controllers]
    return parts + [_device(body, "drive", "Revision") for body in drives if body]


async def _read_cards(reader: Reader, system: Json, chassis: list[Json], shared: list[bool]) -> list[Fitted]:
    """Network cards, each once, though several chassis or an older collection may list it again."""
    lists = await gather(reader.members(link_of(one.get("NetworkAdapters"))) for one in chassis)
    bodies = [(body, at) for found, at in zip(lists, shared, strict=True) for body in found]
    if not bodies:
        older = await reader.members(link_of(system.get("NetworkInterfaces")))
        adapters = await gather(reader.find(link_of(as_dict(i.get("Links")).get("NetworkAdapter"))) for i in older)
        bodies = [(body or interface, False) for body, interface in zip(adapters, older, strict=True)]
    cards: dict[str, Fitted] = {}
    for body, at in bodies:
        first = as_dict(next(iter(as_list(body.get("Controllers"))), None))
        part = _device({**body, "FirmwareVersion": first.get("FirmwarePackageVersion")}, "nic", "FirmwareVersion")
        part.is_shared = at
        same = cards.setdefault(part.serial or link_of(body) or part.slot, part)
        if same is not part:
            same.paths += part.paths
            same.is_shared = same.is_shared and at
    return list(cards.values())


async def _read_power(reader: Reader, chassis: Json, *, is_shared: bool) -> list[Fitted]:
    parts = await _read_supplies(reader, chassis)
    for part in parts:
        part.is_shared = is_shared
    return parts


async def _read_supplies(reader: Reader, chassis: Json) -> list[Fitted]:
    subsystem = await reader.find(link_of(chassis.get("PowerSubsystem")))
    supplies = await reader.members(link_of((subsystem or {}).get("PowerSupplies")))
    if supplies:
        return [_device(body, "power", "FirmwareVersion") for body in supplies]
    power = await reader.find(link_of(chassis.get("Power"))) or {}
    own = link_of(power)
    parts = [_device(body, "power", "FirmwareVersion", own) for body in as_list(power.get("PowerSupplies"))]
    for part in parts:
        part.is_alone = len(parts) == 1
    return parts


def _device(body: Json, kind: str, version: str, container: str | None = None) -> Fitted:
    slot = as_text(body.get("MemberId"), 190) or as_text(body.get("Id"), 190) or kind
    return Fitted(
        slot=slot,
        kind=kind,
        name=as_text(body.get("Name")) or as_text(body.get("Model")) or slot,
        version=as_text(body.get(version)) or as_text(body.get("FirmwareVersion")),
        paths=tuple(path for path in (link_of(body), container) if path),
        number=as_text(body.get("PartNumber")),
        serial=as_text(body.get("SerialNumber")),
        health=health_of(body),
        uuid=as_text(body.get("UUID")),
        maker=as_text(body.get("Manufacturer")),
        product=as_text(body.get("Model")),
        body=body,
    )


async def _add_pci(reader: Reader, part: Fitted) -> None:
    """vendor:device:subvendor:subdevice of the first PCIe function, where one is told."""
    if part.kind not in ("raid", "nic"):
        return
    function = await reader.find(await _function_path(reader, part.body)) or {}
    pieces = [(as_text(function.get(name)) or "").lower().removeprefix("0x") for name in _PCI]
    part.pci = ":".join(pieces) if all(len(piece) == 4 for piece in pieces) else None


async def _function_path(reader: Reader, body: Json) -> str | None:
    functions = as_list(as_dict(body.get("Links")).get("PCIeFunctions"))
    if functions:
        return link_of(functions[0])
    first = as_dict(next(iter(as_list(body.get("Controllers"))), None))
    devices = as_list(as_dict(first.get("Links")).get("PCIeDevices"))
    device = await reader.find(link_of(devices[0])) if devices else None
    members = await reader.members(link_of((device or {}).get("PCIeFunctions")))
    return link_of(members[0]) if members else None


def health_of(body: Json) -> str | None:
    """OK, Warning or Critical, as a resource says of itself."""
    return as_text(as_dict(body.get("Status")).get("Health"))
