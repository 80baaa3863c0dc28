"""Read one server through its controller: every component with its versions, without touching its system."""

from __future__ import annotations

import asyncio
import datetime
from collections.abc import Awaitable, Iterable
from dataclasses import dataclass, field
from typing import Any, TypeVar

from ordnung.controllers.client import Json, Session, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.core.components import Component, Server

T = TypeVar("T")
_KINDS = {
    "Bios": "bios",
    "ComputerSystem": "bios",
    "Manager": "controller",
    "StorageController": "raid",
    "Storage": "raid",
    "NetworkAdapter": "nic",
    "NetworkInterface": "nic",
    "Drive": "drive",
    "PowerSupply": "power",
    "Chassis": "backplane",
}


@dataclass(slots=True)
class _Firmware:
    """One inventory entry with what hangs on it."""

    slot: str
    entry: Json
    related: Json = field(default_factory=dict)
    waiting: str | None = None
    standby: list[str] = field(default_factory=list)


async def read_server(session: Session, name: str, now: datetime.datetime) -> Server:
    """One reading of a server.

    Raises:
        ControllerError: the controller can't be used; missing optional resources are no error.
    """
    root = await session.get("/redfish/v1/")
    service = await session.find(link_of(root.get("UpdateService")))
    if service is None:
        raise ControllerError(name, "not Redfish", "it has no update service")
    system = await _first(session, link_of(root.get("Systems")))
    entries = await _read_all(session, await session.members(link_of(service.get("FirmwareInventory"))))
    firmware = _join(entries)
    await _add_related(session, firmware)
    pci = dict(zip([f.slot for f in firmware], await _gather(_read_pci(session, f) for f in firmware), strict=True))
    return Server(
        name=name,
        model=_text(system.get("Model")) or "",
        serial=_text(system.get("SerialNumber")),
        read_at=now,
        components=tuple(_component(f, pci[f.slot]) for f in firmware),
    )


async def _gather(jobs: Iterable[Awaitable[T]]) -> list[T]:
    return list(await asyncio.gather(*jobs))


async def _first(session: Session, path: str | None) -> Json:
    members = await session.members(path)
    return (await session.find(members[0]) if members else None) or {}


async def _read_all(session: Session, paths: list[str]) -> list[Json]:
    return [entry for entry in await _gather(session.find(path) for path in paths) if entry is not None]


def _join(entries: list[Json]) -> list[_Firmware]:
    """Fold standby and staged members into the component they belong to."""
    found: dict[str, _Firmware] = {}
    extra: list[tuple[str, Json]] = []
    for entry in entries:
        state = (entry.get("Status") or {}).get("State")
        slot = str(entry.get("Id") or "")
        if state in ("StandbyOffline", "StandbySpare", "Updating"):
            extra.append((state, entry))
        elif slot:
            found[slot] = _Firmware(slot, entry)
    for state, entry in extra:
        owner = found.get(str(entry.get("Id")).partition(".")[0]) or _same_related(found, entry)
        version = _text(entry.get("Version"))
        if owner is None or version is None:
            continue
        if state == "StandbySpare":
            owner.waiting = version
        elif state == "StandbyOffline":
            owner.standby.append(version)
    return list(found.values())


def _same_related(found: dict[str, _Firmware], entry: Json) -> _Firmware | None:
    mine = _related_path(entry)
    return next((f for f in found.values() if mine and _related_path(f.entry) == mine), None)


def _related_path(entry: Json) -> str | None:
    related = entry.get("RelatedItem")
    return link_of(related[0]) if isinstance(related, list) and related else None


async def _add_related(session: Session, firmware: list[_Firmware]) -> None:
    paths = sorted({path for f in firmware if (path := _related_path(f.entry))})
    bodies = dict(zip(paths, await _gather(session.find(path) for path in paths), strict=True))
    for item in firmware:
        item.related = bodies.get(_related_path(item.entry) or "") or {}


async def _read_pci(session: Session, firmware: _Firmware) -> str | None:
    """vendor:device:subvendor:subdevice of the first PCIe function, or None."""
    function = await session.find(await _function_path(session, firmware.related))
    if function is None:
        return None
    names = ("VendorId", "DeviceId", "SubsystemVendorId", "SubsystemId")
    parts = [str(function.get(name) or "").lower().removeprefix("0x") for name in names]
    return ":".join(parts) if all(len(part) == 4 for part in parts) else None


async def _function_path(session: Session, related: Json) -> str | None:
    links = _dict(related.get("Links"))
    functions = links.get("PCIeFunctions")
    if isinstance(functions, list) and functions:
        return link_of(functions[0])
    controllers = related.get("Controllers")
    first = _dict(controllers[0]) if isinstance(controllers, list) and controllers else {}
    devices = _dict(first.get("Links")).get("PCIeDevices")
    if not isinstance(devices, list) or not devices:
        return None
    device = await session.find(link_of(devices[0])) or {}
    members = await session.members(link_of(device.get("PCIeFunctions")))
    return members[0] if members else None


def _component(firmware: _Firmware, pci: str | None) -> Component:
    entry, related = firmware.entry, firmware.related
    kind = str(related.get("@odata.type") or "").lstrip("#").partition(".")[0]
    version = _text(entry.get("Version"))
    updateable = entry.get("Updateable")
    return Component(
        slot=firmware.slot,
        kind=_KINDS.get(kind, "other"),
        name=_text(entry.get("Name")) or firmware.slot,
        software_id=_text(entry.get("SoftwareId")),
        version=version,
        waiting=firmware.waiting,
        banks=tuple(v for v in (version, *firmware.standby) if v),
        updateable=updateable if isinstance(updateable, bool) else None,
        pci=pci,
        part=_text(related.get("PartNumber")),
    )


def _dict(value: Any) -> Json:
    return value if isinstance(value, dict) else {}


def _text(value: Any) -> str | None:
    """A string with trailing blanks cut; numbers are taken as strings (some controllers send them)."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return str(value)
    return value.strip() or None if isinstance(value, str) else None
