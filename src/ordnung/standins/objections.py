"""Why a device won't take a package: what it is, what it is at, and what the package itself demands."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import DeviceRecord, Package, device_descriptors, find_record, parse_package, tell_mismatch
from ordnung.standins.parts import Part

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware


def find_objection(device: Hardware, slot: str, package: Package) -> str | None:
    """Why this device won't take a package for a slot, by the package's own rules."""
    part = device.part(slot)
    if part is None or part.dead or part.gone or part.hidden or not part.updateable:
        return f"{slot} can't be updated"
    if device.generation == "oldest" and part.kind != "controller":
        return f"{slot} can't be updated before the controller itself is"
    if part.store in ("blank", "damaged"):
        return f"{slot} is {part.store}: it has to be set up before anything can be written to it"
    own = device_descriptors(part.software_id, part.pci)
    record = find_record(package, own)
    if record is None:
        return tell_mismatch(package, own)
    return _rule_objection(device, part, record, package.images[record.images[0]].version)


def find_targets(device: Hardware, raw: bytes) -> list[str]:
    """What an image is for that names nothing: everything that takes it."""
    try:
        package = parse_package(raw, "image")
    except FormatError:
        return []
    return [part.slot for part in device.parts if find_objection(device, part.slot, package) is None]


def _rule_objection(device: Hardware, part: Part, record: DeviceRecord, version: str) -> str | None:
    rules = record.rules()
    step = next((f.on for f in device.faults if f.kind == "wants a step" and f.slot in (None, part.slot)), None)
    if step and version != step and part.below(part.version, step):
        return "this image does not follow the one that is installed"  # and its maker says nothing of that
    if rules.get("software_id", part.software_id) != part.software_id:
        return f"the image is for {rules['software_id']}, this is {part.software_id}"
    if part.waiting is not None:
        return f"{part.slot} has {part.waiting} waiting for a reset"
    if int(rules.get("signature_generation", 1)) > part.generation:
        return f"{part.slot} can't check a signature of generation {rules['signature_generation']}"
    direct = rules.get("direct_from")
    if direct and not part.at_least(part.version, direct):
        return f"{part.slot} is at {part.version}; {version} can be written from {direct} on"
    if part.floor and part.below(version, part.floor):
        return f"{part.slot} takes nothing below {part.floor}"
    for need in rules.get("needs", ()):
        for other in device.parts:
            if other.software_id == need["software_id"] and not other.at_least(other.version, need["at_least"]):
                return f"{version} needs {other.name} {need['at_least']}, it has {other.version}"
    return None
