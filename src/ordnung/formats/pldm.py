"""PLDM firmware update packages (DSP0267), header revisions 1 to 4.

A package is a header and the images it describes. All integers are little-endian. The reader
trusts no size before the file's length is known and names field and offset of every fault. The
writer makes packages without downstream devices; the same values give the same bytes.
"""

from __future__ import annotations

import datetime
import json
import struct
import uuid
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ordnung.formats.errors import FormatError

IDENTIFIERS = {
    1: uuid.UUID("F018878C-CB7D-4943-9800-A02F059ACA02"),
    2: uuid.UUID("1244D264-8D7D-4718-A030-FC8A56587D5A"),
    3: uuid.UUID("3119CE2F-E80A-4A99-AF6D-46F8B121F6BF"),
    4: uuid.UUID("7B291C99-6DB6-4208-801B-02026E463C78"),
}
PCI_VENDOR, VENDOR_UUID, PCI_DEVICE, PCI_SUBVENDOR, PCI_SUBDEVICE = 0x0000, 0x0002, 0x0100, 0x0101, 0x0102
DESCRIPTOR_NAMES = {
    PCI_VENDOR: "PCI vendor",
    0x0001: "IANA enterprise",
    VENDOR_UUID: "UUID",
    PCI_DEVICE: "PCI device",
    PCI_SUBVENDOR: "PCI subsystem vendor",
    PCI_SUBDEVICE: "PCI subsystem",
}
ACTIVATION_BITS = {"at once": 0, "controller restart": 2, "server reboot": 3, "power cycle": 5}
"""Our activations as bits of RequestedComponentActivationMethod: automatic, medium-specific reset,
system reboot, AC power cycle."""
_ENCODINGS = {0: "ascii", 1: "ascii", 2: "utf-8", 3: "utf-16", 4: "utf-16-le", 5: "utf-16-be"}
MAX_HEADER = 65535
"""The header's size is a 16 bit number."""

Descriptor = tuple[int, bytes]


@dataclass(frozen=True, slots=True, kw_only=True)
class DeviceRecord:
    """Which devices a package is for: a device matches when all descriptors are among its own."""

    descriptors: tuple[Descriptor, ...]
    images: tuple[int, ...]
    version: str
    data: bytes = b""

    def rules(self) -> dict[str, Any]:
        """The device rules in the package data (our made-up makers put UTF-8 JSON there)."""
        try:
            rules = json.loads(self.data) if self.data else {}
        except ValueError:
            return {}
        return rules if isinstance(rules, dict) else {}


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

    def activations(self) -> tuple[str, ...]:
        """The requested activation methods in our words."""
        return tuple(word for word, bit in ACTIVATION_BITS.items() if self.activation >> bit & 1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Package:
    """What a package says of itself."""

    revision: int
    version: str
    released: datetime.datetime | None
    header_size: int
    size: int
    devices: tuple[DeviceRecord, ...]
    images: tuple[Image, ...]


class _Cursor:
    """Reads fields one after the other; a field that isn't all there is an error with its offset."""

    def __init__(self, raw: bytes, source: str) -> None:
        self.raw, self.source, self.at = raw, source, 0

    def fail(self, field: str, what: str, at: int | None = None) -> FormatError:
        return FormatError(self.source, f"{field} at byte {self.at if at is None else at}", what)

    def take(self, field: str, length: int) -> bytes:
        if self.at + length > len(self.raw):
            raise self.fail(field, f"needs {length} bytes, {max(0, len(self.raw) - self.at)} are left: cut short")
        piece = self.raw[self.at : self.at + length]
        self.at += length
        return piece

    def number(self, field: str, width: int) -> int:
        return int.from_bytes(self.take(field, width), "little")

    def text(self, field: str, kind: int, length: int) -> str:
        at = self.at
        piece = self.take(field, length)
        if kind not in _ENCODINGS:
            raise self.fail(field, f"string type {kind} is not known", at)
        try:
            return piece.decode(_ENCODINGS[kind])
        except UnicodeDecodeError:
            raise self.fail(field, "the string doesn't decode", at) from None


def parse_package(raw: bytes, source: str = "package") -> Package:
    """Read and verify a whole package.

    Raises:
        FormatError: an unknown identifier or revision, a wrong checksum, lengths that don't add up,
            an image outside the file or inside the header, a string that doesn't decode.
    """
    cursor = _Cursor(raw, source)
    revision, header_size = _parse_start(cursor)
    _check_sums(cursor, revision, header_size)
    released = _time(cursor.take("PackageReleaseDateTime", 13))
    bits = cursor.number("ComponentBitmapBitLength", 2)
    if bits % 8:
        raise cursor.fail("ComponentBitmapBitLength", f"{bits} is not a multiple of 8")
    kind, length = (
        cursor.number("PackageVersionStringType", 1),
        cursor.number("PackageVersionStringLength", 1),
    )
    version = cursor.text("PackageVersionString", kind, length)
    devices = tuple(_device(cursor, revision, bits) for _ in range(cursor.number("DeviceIDRecordCount", 1)))
    if revision >= 2:
        _skip_downstream(cursor)
    count = cursor.number("ComponentImageCount", 2)
    if count > bits:
        raise cursor.fail("ComponentImageCount", f"{count} images, but the bitmap has {bits} bits")
    images = tuple(_image(cursor, revision, header_size) for _ in range(count))
    end = cursor.at + (8 if revision >= 4 else 4)
    if end != header_size:
        raise cursor.fail("PackageHeaderSize", f"says {header_size}, the fields end at {end}")
    return Package(
        revision=revision,
        version=version,
        released=released,
        header_size=header_size,
        size=len(raw),
        devices=devices,
        images=images,
    )


def _parse_start(cursor: _Cursor) -> tuple[int, int]:
    identifier = uuid.UUID(bytes=cursor.take("PackageHeaderIdentifier", 16))
    revision = cursor.number("PackageHeaderFormatRevision", 1)
    if IDENTIFIERS.get(revision) != identifier:
        known = identifier in IDENTIFIERS.values()
        what = f"doesn't belong to revision {revision}" if known else "this is not a PLDM firmware package"
        raise cursor.fail("PackageHeaderIdentifier", what, 0)
    header_size = cursor.number("PackageHeaderSize", 2)
    if header_size > len(cursor.raw):
        raise cursor.fail(
            "PackageHeaderSize", f"{header_size}, but the file has {len(cursor.raw)} bytes: cut short", 17
        )
    if header_size < 40:
        raise cursor.fail("PackageHeaderSize", f"{header_size} is too small for a header", 17)
    return revision, header_size


def _check_sums(cursor: _Cursor, revision: int, header_size: int) -> None:
    at = header_size - (8 if revision >= 4 else 4)
    stated = int.from_bytes(cursor.raw[at : at + 4], "little")
    if stated != zlib.crc32(cursor.raw[:at]):
        raise cursor.fail("PackageHeaderChecksum", "the header was altered: its checksum is wrong", at)
    if revision >= 4:
        stated = int.from_bytes(cursor.raw[at + 4 : at + 8], "little")
        if stated != zlib.crc32(cursor.raw[header_size:]):
            what = "the images were altered or cut short: their checksum is wrong"
            raise cursor.fail("PLDMFWPackagePayloadChecksum", what, at + 4)


def _device(cursor: _Cursor, revision: int, bits: int) -> DeviceRecord:
    start = cursor.at
    length = cursor.number("RecordLength", 2)
    count = cursor.number("DescriptorCount", 1)
    cursor.number("DeviceUpdateOptionFlags", 4)
    kind, text = cursor.number("SetVersionStringType", 1), cursor.number("SetVersionStringLength", 1)
    data_length = cursor.number("FirmwareDevicePackageDataLength", 2)
    manifest = cursor.number("ReferenceManifestLength", 4) if revision >= 4 else 0
    bitmap = cursor.number("ApplicableComponents", bits // 8)
    version = cursor.text("ComponentImageSetVersionString", kind, text)
    descriptors = tuple(_descriptor(cursor) for _ in range(count))
    data = cursor.take("FirmwareDevicePackageData", data_length)
    cursor.take("ReferenceManifestData", manifest)
    if cursor.at - start != length:
        raise cursor.fail("RecordLength", f"says {length}, the record has {cursor.at - start} bytes", start)
    if not descriptors or descriptors[0][0] >= 0x0100:
        raise cursor.fail("DescriptorCount", "a record begins with a vendor's descriptor", start)
    return DeviceRecord(
        descriptors=descriptors,
        images=tuple(n for n in range(bits) if bitmap >> n & 1),
        version=version,
        data=data,
    )


def _descriptor(cursor: _Cursor) -> Descriptor:
    kind = cursor.number("DescriptorType", 2)
    return kind, cursor.take("DescriptorData", cursor.number("DescriptorLength", 2))


def _skip_downstream(cursor: _Cursor) -> None:
    for _ in range(cursor.number("DownstreamDeviceIDRecordCount", 1)):
        length = cursor.number("DownstreamRecordLength", 2)
        if length < 11:
            raise cursor.fail("DownstreamRecordLength", f"{length} is too small")
        cursor.take("DownstreamRecord", length - 2)


def _image(cursor: _Cursor, revision: int, header_size: int) -> Image:
    start = cursor.at
    classification = cursor.number("ComponentClassification", 2)
    identifier = cursor.number("ComponentIdentifier", 2)
    stamp = cursor.number("ComponentComparisonStamp", 4)
    options = cursor.number("ComponentOptions", 2)
    activation = cursor.number("RequestedComponentActivationMethod", 2)
    offset, size = cursor.number("ComponentLocationOffset", 4), cursor.number("ComponentSize", 4)
    kind, length = (
        cursor.number("ComponentVersionStringType", 1),
        cursor.number("ComponentVersionStringLength", 1),
    )
    version = cursor.text("ComponentVersionString", kind, length)
    if revision >= 3:
        cursor.take("ComponentOpaqueData", cursor.number("ComponentOpaqueDataLength", 4))
    if offset < header_size:
        raise cursor.fail("ComponentLocationOffset", f"{offset} lies inside the header", start + 12)
    if offset + size > len(cursor.raw):
        have = len(cursor.raw)
        raise cursor.fail("ComponentSize", f"ends at {offset + size}, the file has {have} bytes: cut short", start + 16)
    return Image(
        classification=classification,
        identifier=identifier,
        stamp=stamp,
        options=options,
        activation=activation,
        offset=offset,
        size=size,
        version=version,
    )


def _time(piece: bytes) -> datetime.datetime | None:
    """A timestamp104: offset minutes, microseconds, s, min, h, day, month, year, resolution."""
    offset = int.from_bytes(piece[:2], "little", signed=True)
    micro = int.from_bytes(piece[2:5], "little")
    second, minute, hour, day, month = piece[5:10]
    year = int.from_bytes(piece[10:12], "little")
    try:
        zone = datetime.timezone(datetime.timedelta(minutes=offset))
        return datetime.datetime(year, month, day, hour, minute, second, min(micro, 999999), zone)
    except ValueError:
        return None


def _time_bytes(moment: datetime.datetime) -> bytes:
    offset = moment.utcoffset() or datetime.timedelta()
    return (
        struct.pack("<h", int(offset.total_seconds() // 60))
        + moment.microsecond.to_bytes(3, "little")
        + bytes((moment.second, moment.minute, moment.hour, moment.day, moment.month))
        + struct.pack("<HB", moment.year, 0)
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class NewImage:
    """An image to be packed."""

    version: str
    content: bytes
    activation: str
    identifier: int = 1
    classification: int = 10


def write_package(
    devices: Sequence[tuple[Sequence[Descriptor], Mapping[str, Any]]],
    images: Sequence[NewImage],
    *,
    version: str,
    released: datetime.datetime,
    revision: int = 4,
) -> bytes:
    """A package in which every device record applies to every image.

    Raises:
        ValueError: the header would be larger than the format allows, or the revision is unknown.
    """
    if revision not in IDENTIFIERS:
        raise ValueError(f"header revision {revision} is not known")
    bits = 8 * ((len(images) + 7) // 8)
    start = IDENTIFIERS[revision].bytes + bytes((revision,))
    middle = _time_bytes(released) + struct.pack("<H", bits) + _string(version)
    records = b"".join(_device_bytes(d, rules, len(images), bits, version, revision) for d, rules in devices)
    body = bytes((len(devices),)) + records + (b"\0" if revision >= 2 else b"")
    table_size = 2 + sum(22 + len(i.version.encode()) + (4 if revision >= 3 else 0) for i in images)
    sums = 8 if revision >= 4 else 4
    header_size = len(start) + 2 + len(middle) + len(body) + table_size + sums
    if header_size > MAX_HEADER:
        raise ValueError(f"a header of {header_size} bytes doesn't fit the format")
    header = start + struct.pack("<H", header_size) + middle + body + _table(images, header_size, revision)
    payload = b"".join(image.content for image in images)
    header += struct.pack("<I", zlib.crc32(header))
    if revision >= 4:
        header += struct.pack("<I", zlib.crc32(payload))
    return header + payload


def _string(text: str) -> bytes:
    raw = text.encode()
    return bytes((2, len(raw))) + raw


def _device_bytes(
    descriptors: Sequence[Descriptor],
    rules: Mapping[str, Any],
    images: int,
    bits: int,
    version: str,
    revision: int,
) -> bytes:
    data = json.dumps(rules, sort_keys=True, separators=(",", ":")).encode()
    text = version.encode()
    rest = (
        bytes((len(descriptors),))
        + struct.pack("<I", 0)
        + bytes((2, len(text)))
        + struct.pack("<H", len(data))
        + (struct.pack("<I", 0) if revision >= 4 else b"")
        + ((1 << images) - 1).to_bytes(bits // 8, "little")
        + text
        + b"".join(struct.pack("<HH", kind, len(value)) + value for kind, value in descriptors)
        + data
    )
    return struct.pack("<H", len(rest) + 2) + rest


def _table(images: Sequence[NewImage], header_size: int, revision: int) -> bytes:
    table, offset = struct.pack("<H", len(images)), header_size
    for image in images:
        activation = 1 << ACTIVATION_BITS[image.activation]
        table += struct.pack(
            "<HHIHHII",
            image.classification,
            image.identifier,
            0xFFFFFFFF,
            0,
            activation,
            offset,
            len(image.content),
        )
        table += _string(image.version) + (struct.pack("<I", 0) if revision >= 3 else b"")
        offset += len(image.content)
    return table


def device_descriptors(software_id: str | None, pci: str | None) -> tuple[Descriptor, ...]:
    """The descriptors of a device as our makers choose them: its PCI ids, else a UUID of its software id.

    ``pci`` is vendor:device:subvendor:subdevice in hex.
    """
    if pci:
        kinds = (PCI_VENDOR, PCI_DEVICE, PCI_SUBVENDOR, PCI_SUBDEVICE)
        return tuple(
            (kind, int(part, 16).to_bytes(2, "little")) for kind, part in zip(kinds, pci.split(":"), strict=True)
        )
    name = uuid.uuid5(uuid.NAMESPACE_OID, software_id or "")
    return ((VENDOR_UUID, name.bytes),)


def find_record(package: Package, own: Sequence[Descriptor]) -> DeviceRecord | None:
    """The record whose descriptors are all among the device's own, or None."""
    have = set(own)
    return next((record for record in package.devices if set(record.descriptors) <= have), None)


def tell_mismatch(package: Package, own: Sequence[Descriptor]) -> str:
    """In words, which descriptor of the package the device lacks."""
    have = set(own)
    for record in package.devices:
        for kind, value in record.descriptors:
            if (kind, value) not in have:
                name = DESCRIPTOR_NAMES.get(kind, f"type {kind:#06x}")
                mine = [v for k, v in own if k == kind]
                told = _spell(mine[0]) if mine else "none"
                return f"the package is for {name} {_spell(value)}, the device has {told}"
    return "the package names no device"


def _spell(value: bytes) -> str:
    if len(value) == 2:
        return f"{int.from_bytes(value, 'little'):04x}"
    return str(uuid.UUID(bytes=value)) if len(value) == 16 else value.hex()
