"""What a package says, as values: device records, downstream devices, component images."""

from __future__ import annotations

import datetime
import json
import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

IDENTIFIERS = {
    1: uuid.UUID("F018878C-CB7D-4943-9800-A02F059ACA02"),
    2: uuid.UUID("1244D264-8D7D-4718-A030-FC8A56587D5A"),
    3: uuid.UUID("3119CE2F-E80A-4A99-AF6D-46F8B121F6BF"),
    4: uuid.UUID("7B291C99-6DB6-4208-801B-02026E463C78"),
}
"""PackageHeaderIdentifier by header revision (DSP0267, "Package header")."""
PCI_VENDOR, VENDOR_UUID, PCI_DEVICE, PCI_SUBVENDOR, PCI_SUBDEVICE = 0x0000, 0x0002, 0x0100, 0x0101, 0x0102
IANA_ENTERPRISE = 0x0001
PCI_REVISION, PCI_REVISION_RANGE, VENDOR_DEFINED = 0x0103, 0x010B, 0xFFFF
DESCRIPTOR_NAMES = {
    PCI_VENDOR: "PCI vendor",
    0x0001: "IANA enterprise",
    VENDOR_UUID: "UUID",
    0x0003: "PnP vendor",
    0x0004: "ACPI vendor",
    0x0005: "IEEE company",
    0x0006: "SCSI vendor",
    PCI_DEVICE: "PCI device",
    PCI_SUBVENDOR: "PCI subsystem vendor",
    PCI_SUBDEVICE: "PCI subsystem",
    PCI_REVISION: "PCI revision",
    0x0104: "PnP product",
    0x0105: "ACPI product",
    0x0106: "ASCII model number (long)",
    0x0107: "ASCII model number (short)",
    0x0108: "SCSI product",
    0x0109: "UBM controller device code",
    0x010A: "IEEE EUI-64",
    PCI_REVISION_RANGE: "PCI revision range",
    VENDOR_DEFINED: "vendor defined",
}
DESCRIPTOR_LENGTHS = {
    PCI_VENDOR: 2, 0x0001: 4, VENDOR_UUID: 16, 0x0003: 3, 0x0004: 4, 0x0005: 3, 0x0006: 8, PCI_DEVICE: 2,
    PCI_SUBVENDOR: 2, PCI_SUBDEVICE: 2, PCI_REVISION: 1, 0x0104: 4, 0x0105: 4, 0x0106: 40, 0x0107: 10, 0x0108: 16,
    0x0109: 4, 0x010A: 8, PCI_REVISION_RANGE: 2,
}  # fmt: skip
"""Bytes of each fixed descriptor (DSP0267, "Descriptor identifier table"); vendor defined ones are of any length."""
_TEXTUAL = (0x0004, 0x0006, 0x0105, 0x0106, 0x0107, 0x0108)

ACTIVATION_NAMES = {
    0: "automatic", 1: "self-contained", 2: "medium-specific reset", 3: "system reboot", 4: "DC power cycle",
    5: "AC power cycle", 6: "pending image", 7: "pending image set",
}  # fmt: skip
"""Bits of RequestedComponentActivationMethod."""
ACTIVATION_BITS = {"at once": 0, "controller restart": 2, "server reboot": 3, "power cycle": 5}
"""Our activations as bits of RequestedComponentActivationMethod: automatic, medium-specific reset,
system reboot, AC power cycle."""
_OURS = {0: "at once", 1: "at once", 2: "controller restart", 3: "server reboot", 4: "power cycle", 5: "power cycle"}
IMAGE_OPTIONS = {0: "force update", 1: "use comparison stamp", 2: "delay security revision"}
"""Bits of ComponentOptions."""
DEVICE_OPTIONS = {0: "continue after failure"}
"""Bits of DeviceUpdateOptionFlags."""
STAMPED = 1
"""DownstreamDeviceUpdateOptionFlags bit 0: the record carries a comparison stamp of its least version."""

Descriptor = tuple[int, bytes]


def _load_rules(data: bytes) -> dict[str, Any]:
    try:
        rules = json.loads(data) if data else {}
    except (ValueError, RecursionError):
        return {}
    return rules if isinstance(rules, dict) else {}


@dataclass(frozen=True, slots=True, kw_only=True)
class DeviceRecord:
    """Which devices a package is for: a device matches when all descriptors are among its own.

    ``images`` are the places of the applicable images in the table, ``options`` the bits of
    DeviceUpdateOptionFlags, ``data`` the FirmwareDevicePackageData, ``manifest`` the reference manifest
    (header revision 4).
    """

    descriptors: tuple[Descriptor, ...]
    images: tuple[int, ...]
    version: str
    data: bytes = b""
    options: int = 0
    manifest: bytes = b""

    def rules(self) -> dict[str, Any]:
        """The device rules in the package data (our made-up makers put UTF-8 JSON there)."""
        return _load_rules(self.data)


@dataclass(frozen=True, slots=True, kw_only=True)
class DownstreamRecord:
    """A device behind the one that takes the package (header revision 2 and later).

    ``least_version`` is the SelfContainedActivationMinVersion, ``least_stamp`` its comparison stamp or None.
    """

    descriptors: tuple[Descriptor, ...]
    images: tuple[int, ...]
    least_version: str = ""
    least_stamp: int | None = None
    data: bytes = b""
    options: int = 0
    manifest: bytes = b""

    def rules(self) -> dict[str, Any]:
        """The device rules in the package data."""
        return _load_rules(self.data)


@dataclass(frozen=True, slots=True, kw_only=True)
class Image:
    """One component image: ``offset`` from the start of the package and ``size`` in bytes."""

    classification: int
    identifier: int
    stamp: int
    options: int
    activation: int
    offset: int
    size: int
    version: str
    opaque: bytes = b""

    def activations(self) -> tuple[str, ...]:
        """The requested activation methods in our words, each once."""
        return tuple(dict.fromkeys(word for bit, word in _OURS.items() if self.activation >> bit & 1))


@dataclass(frozen=True, slots=True, kw_only=True)
class Package:
    """What a package says of itself. ``trailing`` counts the bytes behind the last image."""

    revision: int
    version: str
    released: datetime.datetime | None
    header_size: int
    size: int
    devices: tuple[DeviceRecord, ...]
    images: tuple[Image, ...]
    downstream: tuple[DownstreamRecord, ...] = ()
    trailing: int = 0

    @property
    def generation(self) -> int:
        """The generation of its signature, as its device data tell; 1 where they don't."""
        records: tuple[DeviceRecord | DownstreamRecord, ...] = (*self.devices, *self.downstream)
        generations = [record.rules().get("signature_generation") for record in records]
        return max([n for n in generations if isinstance(n, int)], default=1)


DOCUMENTATION_ENTERPRISE = 32473
"""The IANA enterprise number that RFC 5612 keeps for examples: made-up makers have no other."""
SOFTWARE_ID = "SoftwareId"
"""The title of a vendor-defined descriptor that names a device by what its inventory calls its software."""


def device_descriptors(software_id: str | None, pci: str | None) -> tuple[Descriptor, ...]:
    """The descriptors of a device as our made-up makers choose them: its PCI ids, else its software's id.

    ``pci`` is vendor:device:subvendor:subdevice in hex.
    """
    if pci:
        kinds = (PCI_VENDOR, PCI_DEVICE, PCI_SUBVENDOR, PCI_SUBDEVICE)
        return tuple(
            (kind, int(part, 16).to_bytes(2, "little")) for kind, part in zip(kinds, pci.split(":"), strict=True)
        )
    enterprise = DOCUMENTATION_ENTERPRISE.to_bytes(4, "little")
    return ((IANA_ENTERPRISE, enterprise), (VENDOR_DEFINED, titled(SOFTWARE_ID, (software_id or "").encode())))


def titled(title: str, data: bytes) -> bytes:
    """The value of a vendor-defined descriptor: title string type (ASCII), its length, the title, the data."""
    return bytes((1, len(title))) + title.encode("ascii") + data


def device_data(rules: Mapping[str, Any]) -> bytes:
    """Device rules as package data: the same rules give the same bytes."""
    return json.dumps(rules, sort_keys=True, separators=(",", ":")).encode()


def spell_descriptor(kind: int, value: bytes) -> str:
    """A descriptor's value for people: hex numbers, UUIDs, text; vendor defined ones with their title."""
    if kind == VENDOR_UUID and len(value) == 16:
        return str(uuid.UUID(bytes=value))
    if kind == VENDOR_DEFINED:
        return _spell_vendors_own(value)
    if kind == PCI_REVISION_RANGE and len(value) == 2:
        return f"{value[0]:02x} to {value[1]:02x}"
    if kind in _TEXTUAL and value.rstrip(b"\0 ").isascii():
        return value.rstrip(b"\0 ").decode("ascii")
    if len(value) in (1, 2, 4):
        return f"{int.from_bytes(value, 'little'):0{2 * len(value)}x}"
    return value.hex()


def spell_own(value: bytes) -> tuple[str, bytes] | None:
    """Title and data of a vendor-defined descriptor (DSP0267, "Vendor defined descriptor"), or None when cut short.

    The title's string type says how it is spelled (``redfish.md``): ASCII, UTF-8 or UTF-16.
    """
    if len(value) < 2 or len(value) < 2 + value[1]:
        return None
    coding = {3: "utf-16", 4: "utf-16-le", 5: "utf-16-be"}.get(value[0], "utf-8")
    return value[2 : 2 + value[1]].decode(coding, "replace"), value[2 + value[1] :]


def _spell_vendors_own(value: bytes) -> str:
    found = spell_own(value)
    if found is None:
        return value.hex()
    title, data = found
    text = data.rstrip(b"\0 ")
    readable = text.isascii() and text.decode("ascii", "replace").isprintable() and text
    return f"{title} {text.decode('ascii') if readable else data.hex()}"
