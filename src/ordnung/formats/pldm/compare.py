"""A package's descriptors (DSP0267) against what a reading tells of a component.

A device knows all of its own descriptors; a reading tells some of them. Each descriptor therefore agrees, contradicts,
or can't be compared. A record fits when one that names the very device agrees and none contradicts.
"""

from __future__ import annotations

import uuid
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from ordnung.core.components import Component
from ordnung.formats.pldm.model import (
    DESCRIPTOR_NAMES,
    PCI_DEVICE,
    PCI_SUBDEVICE,
    PCI_SUBVENDOR,
    PCI_VENDOR,
    VENDOR_DEFINED,
    VENDOR_UUID,
    DeviceRecord,
    spell_descriptor,
    spell_own,
)

_PCI = (PCI_VENDOR, PCI_DEVICE, PCI_SUBVENDOR, PCI_SUBDEVICE)
MODEL_LONG, MODEL_SHORT, SCSI_VENDOR, SCSI_PRODUCT = 0x0106, 0x0107, 0x0006, 0x0108
_SPECIFIC = frozenset({PCI_DEVICE, VENDOR_UUID, MODEL_LONG, MODEL_SHORT, SCSI_PRODUCT, VENDOR_DEFINED})
"""Descriptors that name a kind of device; the others name its vendor or narrow it down."""


class Agreement(StrEnum):
    """What a comparison came to."""

    FITS = "fits"
    OTHER = "for another device"
    UNTOLD = "nothing to compare"


@dataclass(frozen=True, slots=True)
class Compared:
    """The outcome for one record, and in words what decided it."""

    agreement: Agreement
    message: str


def compare_record(record: DeviceRecord, component: Component) -> Compared:
    """Whether a record is for a component, by every identifier that both of them tell."""
    agreed = []
    for kind, value in record.descriptors:
        own = _own(kind, value, component)
        if own is None:
            continue
        spelled = spell_descriptor(kind, value)
        if not own[0]:
            message = f"the package is for {_name(kind)} {spelled}, the device has {own[1]}"
            return Compared(Agreement.OTHER, message)
        if kind in _SPECIFIC:
            agreed.append(f"{_name(kind)} {spelled}")
    if agreed:
        return Compared(Agreement.FITS, ", ".join(agreed))
    names = ", ".join(_name(kind) for kind, _ in record.descriptors) or "nothing"
    return Compared(Agreement.UNTOLD, f"the package names its device by {names}, of which the reading tells nothing")


def compare_records(records: Iterable[DeviceRecord], component: Component) -> tuple[Compared, DeviceRecord | None]:
    """The record that fits best, with its outcome; when none fits, what can't be told weighs more than another device.

    Returns:
        The outcome and the record it is about (None for a package without records).
    """
    found = [(compare_record(record, component), record) for record in records]
    for agreement in (Agreement.FITS, Agreement.UNTOLD, Agreement.OTHER):
        for compared, record in found:
            if compared.agreement is agreement:
                return compared, record
    return Compared(Agreement.UNTOLD, "the package names no device"), None


def _name(kind: int) -> str:
    return DESCRIPTOR_NAMES.get(kind, f"type {kind:#06x}")


def _own(kind: int, value: bytes, component: Component) -> tuple[bool, str] | None:
    """Whether the component's own identifier of this kind agrees, and how it spells it; None: it tells none."""
    if kind in _PCI:
        return _own_pci(kind, value, component.pci)
    if kind == VENDOR_UUID:
        return _own_uuid(value, component.uuid)
    if kind in (MODEL_LONG, MODEL_SHORT, SCSI_PRODUCT):
        return _own_text(value, (component.product, component.part))
    if kind == SCSI_VENDOR:
        found = _own_text(value, (component.maker,))
        return found if found is not None and found[0] else None  # makers' names are spelled in many ways
    if kind == VENDOR_DEFINED:
        return _own_titled(value, component)
    return None


def _own_pci(kind: int, value: bytes, pci: str | None) -> tuple[bool, str] | None:
    pieces = (pci or "").split(":")
    if len(pieces) != len(_PCI):
        return None
    try:
        mine = int(pieces[_PCI.index(kind)], 16)
    except ValueError:
        return None
    return mine == int.from_bytes(value, "little"), f"{mine:04x}"


def _own_uuid(value: bytes, own: str | None) -> tuple[bool, str] | None:
    try:
        mine = uuid.UUID(own or "")
    except ValueError:
        return None
    return (mine.bytes == value, str(mine)) if mine.int else None


def _own_text(value: bytes, own: tuple[str | None, ...]) -> tuple[bool, str] | None:
    expected = value.rstrip(b"\0 ").decode("utf-8", "replace").strip().casefold()
    texts = [text.strip() for text in own if text and text.strip()]
    if not texts or not expected:
        return None
    return any(text.casefold() == expected for text in texts), " or ".join(texts)


def _own_titled(value: bytes, component: Component) -> tuple[bool, str] | None:
    """A vendor-defined descriptor whose title says which of our identifiers it is; other titles can't be compared."""
    spelled = spell_own(value)
    if spelled is None:
        return None
    title, data = spelled
    known = {
        "softwareid": component.software_id,
        "model": component.product,
        "modelnumber": component.product,
        "partnumber": component.part,
    }
    key = "".join(letter for letter in title.casefold() if letter.isalnum())
    own = known.get(key)
    if own is None:
        return None
    found = _own_text(data, (own,))
    return None if found is None else (found[0], found[1])
