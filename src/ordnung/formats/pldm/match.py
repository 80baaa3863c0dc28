"""Whether a package is for a device: every descriptor of a record must be among the device's own (DSP0267)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.formats.pldm.model import (
    DESCRIPTOR_NAMES,
    PCI_REVISION,
    PCI_REVISION_RANGE,
    Descriptor,
    DeviceRecord,
    Package,
    spell_descriptor,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Mismatch:
    """The first descriptor of a record that a device lacks, with the device's own of that kind."""

    kind: int
    expected: bytes
    own: bytes | None

    def __str__(self) -> str:
        name = DESCRIPTOR_NAMES.get(self.kind, f"type {self.kind:#06x}")
        has = spell_descriptor(self.kind, self.own) if self.own is not None else "none"
        return f"the package is for {name} {spell_descriptor(self.kind, self.expected)}, the device has {has}"


def find_record(package: Package, own: Sequence[Descriptor]) -> DeviceRecord | None:
    """The record whose descriptors are all among the device's own, or None."""
    return next((record for record in package.devices if find_mismatch(record, own) is None), None)


def find_mismatch(record: DeviceRecord, own: Sequence[Descriptor]) -> Mismatch | None:
    """Which descriptor of a record the device lacks, or None when it has them all."""
    for kind, value in record.descriptors:
        mine = [v for k, v in own if k == kind]
        if value in mine or (kind == PCI_REVISION_RANGE and _in_range(value, own)):
            continue
        return Mismatch(kind=kind, expected=value, own=mine[0] if mine else None)
    return None


def _in_range(value: bytes, own: Sequence[Descriptor]) -> bool:
    return any(kind == PCI_REVISION and value[0] <= revision[0] <= value[1] for kind, revision in own if revision)


def tell_mismatch(package: Package, own: Sequence[Descriptor]) -> str:
    """In words, which descriptor of the package the device lacks: of the record that comes nearest."""
    found = [mismatch for record in package.devices if (mismatch := find_mismatch(record, own)) is not None]
    if not found:
        return "the package names no device"
    return str(max(found, key=lambda m: m.own is not None))
