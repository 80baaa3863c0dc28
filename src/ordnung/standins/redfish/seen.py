"""The parts of a device as its controller sees them."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Part


def parts_of(device: Hardware, *kinds: str) -> list[Part]:
    """The parts of these kinds that the controller sees."""
    return [part for part in device.seen if part.kind in kinds]


def find_part(device: Hardware, slot: str, kind: str) -> Part | None:
    """The part in a slot if it is of that kind and seen."""
    return next((part for part in parts_of(device, kind) if part.slot == slot), None)
