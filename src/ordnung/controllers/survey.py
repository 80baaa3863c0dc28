"""Read one server through its controller: every component with its versions, without touching its system.

Two views are joined: the tree (what is fitted: ``controllers.tree``) and the update service's inventory
(what carries firmware). Either may be poor: old controllers list little, some don't say what belongs to what.
"""

from __future__ import annotations

import asyncio
import dataclasses
import datetime
from collections.abc import Callable
from typing import Protocol

from ordnung.controllers.answers import Json, as_dict, as_list, as_text, is_true, link_of
from ordnung.controllers.client import Endpoint
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.facts import read_facts
from ordnung.controllers.inventory import MAX_SLOT, Firmware, fold, join, name_slots, related_path
from ordnung.controllers.next_start import read_override
from ordnung.controllers.partitions import volumes_of
from ordnung.controllers.reader import Reader
from ordnung.controllers.starts import start_of
from ordnung.controllers.surroundings import read_boot_options
from ordnung.controllers.tree import Fitted, Found, health_of, read_fitted
from ordnung.controllers.update_service import decides_by_image
from ordnung.core.components import Component, Server, Start, take_by_image
from ordnung.formats.errors import FormatError
from ordnung.formats.readings import check_reading

_KIND_WORDS = (
    ("bios", "bios"), ("backplane", "backplane"), ("controller", "controller"), ("raid", "raid"), ("adapter", "raid"),
    ("drive", "drive"), ("nvme", "drive"), ("supply", "power"), ("port", "nic"), ("logic", "logic"),
)  # fmt: skip
"""For inventory entries that belong to nothing in the tree: a word in their name is the last resort."""


class Line(Protocol):
    """What reading needs of a session."""

    async def find(self, path: str | None) -> Json | None: ...
    def bears_more(self) -> None: ...


async def read_server(
    line: Line, endpoint: Endpoint, now: Callable[[], datetime.datetime], certificate: bytes | None = None
) -> Server:
    """One reading of a server, valid by the readings' format whatever the controller told.

    Args:
        endpoint: whose server it is; the role of its account is part of the reading.
        now: the clock; it is looked at when the controller's own is read.
        certificate: what the controller showed, as DER.

    Raises:
        ControllerError: the controller can't be used; missing optional resources are no error.
    """
    try:
        return check_reading(await _read(line, endpoint, now, certificate))
    except (FormatError, TypeError, ValueError, LookupError, AttributeError, RecursionError) as error:
        # What no reader foresaw: a cause for this server, never a traceback for all of them.
        message = f"it can't be read: {type(error).__name__}: {error}"[:300]
        raise ControllerError(endpoint.name, "malformed answer", message) from error


async def _read(
    line: Line, endpoint: Endpoint, now: Callable[[], datetime.datetime], certificate: bytes | None
) -> Server:
    name = endpoint.name
    reader, began = Reader(line, name), now()
    root = await reader.root()
    if "ProtocolFeaturesSupported" in root:
        line.bears_more()
    service = await reader.find(link_of(root.get("UpdateService"))) or {}
    found, inventory, partitions = await asyncio.gather(
        read_fitted(reader, root, now, endpoint.system),
        reader.members(link_of(service.get("FirmwareInventory"))),
        reader.members(link_of(service.get("SoftwareInventory"))),
    )
    firmware = fold([entry for entry in as_entries(inventory) if _is_own(entry, found)], found.parts)
    join(firmware, found.parts)
    claimed = {id(f.fitted) for f in firmware if f.fitted is not None}
    components = [_component(f) for f in firmware]
    components += [_bare_component(part) for part in found.parts if id(part) not in claimed]
    system = found.system
    own = [entry for entry in as_entries(partitions) if _is_own(entry, found)]
    components += await _partitions(reader, system, own)
    facts = await read_facts(reader, root, service, found, began, endpoint.user, certificate, related(partitions))
    if facts.push == "own" and any(c.updateable is not False for c in components if c.kind != "controller"):
        facts = dataclasses.replace(facts, push="image")
    server = Server(
        name=name,
        model=as_text(system.get("Model")) or "",
        serial=as_text(system.get("SerialNumber")),
        uuid=as_text(system.get("UUID")),
        tag=as_text(system.get("AssetTag")),
        read_at=began,
        components=tuple(_unique(components)),
        facts=facts,
    )
    return take_by_image(server) if await decides_by_image(reader.allowed, service) else server


def _is_own(entry: Json, found: Found) -> bool:
    """Whether an inventory entry belongs to this server, where several stand behind one controller."""
    if not found.others:
        return True
    related = [path for item in as_list(entry.get("RelatedItem")) if (path := link_of(item))]
    return any(found.owns(path) for path in related)


def related(entries: object) -> frozenset[str]:
    """The paths of everything that entries of an inventory say they are on."""
    items = [item for entry in as_entries(entries) for item in as_list(entry.get("RelatedItem"))]
    return frozenset(path.rstrip("/") for item in items if (path := link_of(item)))


def as_entries(found: object) -> list[Json]:
    """The members that are objects with an id."""
    return [entry for entry in as_list(found) if as_text(entry.get("Id"))]


def _component(firmware: Firmware) -> Component:
    entry, part = firmware.entry, firmware.fitted
    version = as_text(entry.get("Version")) or (part.version if part else None)
    updateable = entry.get("Updateable")
    return Component(
        slot=firmware.slot,
        kind=part.kind if part else _guess_kind(entry),
        name=as_text(entry.get("Name")) or firmware.slot,
        software_id=as_text(entry.get("SoftwareId")),
        version=version,
        waiting=firmware.waiting or _chosen(firmware),
        banks=tuple(v for v in (version, *firmware.standby.values()) if v),
        can_switch=bool(part and any(path in firmware.standby for path in part.images)),
        updateable=None if updateable is None else is_true(updateable),
        pci=part.pci if part else None,
        part=part.number if part else None,
        serial=part.serial if part else None,
        uuid=part.uuid if part else None,
        maker=part.maker if part else as_text(entry.get("Manufacturer")),
        product=part.product if part else None,
        shared=bool(part and part.is_shared),
        health=health_of(entry) if health_of(entry) not in (None, "OK") or part is None else part.health,
    )


def _chosen(firmware: Firmware) -> str | None:
    """The version of another bank from which it was told to start with its next reset."""
    return firmware.standby.get(firmware.fitted.active or "") if firmware.fitted is not None else None


def _guess_kind(entry: Json) -> str:
    words = (as_text(entry.get("Name")) or "").lower()
    related = related_path(entry) or ""
    found = next((kind for word, kind in _KIND_WORDS if word in words), "other")
    return "backplane" if found == "other" and "/Chassis/" in related and related.count("/") == 4 else found


def _bare_component(part: Fitted) -> Component:
    """Something fitted that no inventory lists: seen, but not to be updated through this controller as it is."""
    return Component(
        slot=part.slot,
        kind=part.kind,
        name=part.name,
        version=part.version,
        banks=(part.version,) if part.version else (),
        updateable=False,
        pci=part.pci,
        part=part.number,
        serial=part.serial,
        uuid=part.uuid,
        maker=part.maker,
        product=part.product,
        shared=part.is_shared,
        health=part.health,
    )


async def _partitions(reader: Reader, system: Json, entries: list[Json]) -> list[Component]:
    if not entries:
        return []
    options, override = await read_boot_options(reader, system), await read_override(reader, system)
    return [
        _partition(entry, slot, start_of(system, override, options, entry))
        for entry, slot in zip(entries, name_slots(entries), strict=True)
    ]


def _partition(entry: Json, slot: str, start: Start | None) -> Component:
    """A service partition of the server's own flash store (N1.9)."""
    status = as_dict(entry.get("Status"))
    version = as_text(entry.get("Version"))
    broken = status.get("State") == "UnavailableOffline" or status.get("Health") == "Critical"
    state = "damaged" if broken else "blank" if version is None else None
    return Component(
        slot=slot,
        kind="store",
        name=as_text(entry.get("Name")) or "Service partition",
        software_id=as_text(entry.get("SoftwareId")),
        version=None if state else version,
        updateable=is_true(entry.get("Updateable")),
        health=health_of(entry),
        state=state,
        can_set_up=len(volumes_of(entry)) == 1,
        start=None if state else start,
    )


def _unique(components: list[Component]) -> list[Component]:
    """Slots that stand twice get a number: no component is lost (R21)."""
    taken: set[str] = set()
    found = []
    for component in components:
        slot, count = component.slot[: MAX_SLOT - 6] or component.kind, 1
        while slot in taken:
            count += 1
            slot = f"{component.slot[: MAX_SLOT - 6]}#{count}"
        taken.add(slot)
        found.append(component if slot == component.slot else dataclasses.replace(component, slot=slot))
    return found
