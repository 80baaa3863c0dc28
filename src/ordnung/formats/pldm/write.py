"""The writer: the same values give the same bytes, and the reader gives the values back."""

from __future__ import annotations

import datetime
import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.formats.pldm.model import (
    ACTIVATION_BITS,
    IDENTIFIERS,
    STAMPED,
    Descriptor,
    DeviceRecord,
    DownstreamRecord,
)
from ordnung.formats.pldm.read import MAX_HEADER

_UTF8 = 2


@dataclass(frozen=True, slots=True, kw_only=True)
class NewImage:
    """An image to be packed. ``activation`` is one of our words, or the bits of RequestedComponentActivationMethod."""

    version: str
    content: bytes
    activation: str | int
    identifier: int = 1
    classification: int = 10
    stamp: int = 0xFFFFFFFF
    options: int = 0
    opaque: bytes = b""

    @property
    def bits(self) -> int:
        """The activation as the format has it."""
        return self.activation if isinstance(self.activation, int) else 1 << ACTIVATION_BITS[self.activation]


def write_package(
    devices: Sequence[DeviceRecord],
    images: Sequence[NewImage],
    *,
    version: str,
    released: datetime.datetime | None,
    revision: int = 4,
    downstream: Sequence[DownstreamRecord] = (),
) -> bytes:
    """A whole package.

    Raises:
        ValueError: the revision is unknown or too old for what is to be written, a string or a record is
            too long, or the header would be larger than the format allows.
    """
    _refuse_unwritable(devices, images, revision, downstream)
    bits = 8 * ((len(images) + 7) // 8)
    head = IDENTIFIERS[revision].bytes + bytes((revision,))
    body = _time_bytes(released) + struct.pack("<H", bits) + _string(version)
    body += bytes((len(devices),)) + b"".join(_device(record, bits, revision) for record in devices)
    if revision >= 2:
        body += bytes((len(downstream),)) + b"".join(_downstream(record, bits, revision) for record in downstream)
    table_size = 2 + sum(len(_entry(image, 0, revision)) for image in images)
    header_size = len(head) + 2 + len(body) + table_size + (8 if revision >= 4 else 4)
    if header_size > MAX_HEADER:
        raise ValueError(f"a header of {header_size} bytes doesn't fit the format")
    header = head + struct.pack("<H", header_size) + body + _table(images, header_size, revision)
    header += struct.pack("<I", zlib.crc32(header))
    payload = b"".join(image.content for image in images)
    if revision >= 4:
        header += struct.pack("<I", zlib.crc32(payload))
    return header + payload


def _refuse_unwritable(
    devices: Sequence[DeviceRecord],
    images: Sequence[NewImage],
    revision: int,
    downstream: Sequence[DownstreamRecord],
) -> None:
    records: tuple[DeviceRecord | DownstreamRecord, ...] = (*devices, *downstream)
    if revision not in IDENTIFIERS:
        raise ValueError(f"header revision {revision} is not known")
    if downstream and revision < 2:
        raise ValueError("downstream devices need header revision 2")
    if revision < 3 and any(image.opaque for image in images):
        raise ValueError("opaque data need header revision 3")
    if revision < 4 and any(record.manifest for record in records):
        raise ValueError("reference manifests need header revision 4")
    if any(record.images and max(record.images) >= len(images) for record in records):
        raise ValueError("a record names an image that is not in the package")


def _string(text: str) -> bytes:
    raw = text.encode()
    if len(raw) > 255:
        raise ValueError(f"a string of {len(raw)} bytes doesn't fit the format")
    return bytes((_UTF8, len(raw))) + raw


def _bitmap(images: Sequence[int], bits: int) -> bytes:
    return sum(1 << n for n in images).to_bytes(bits // 8, "little")


def _descriptor_bytes(descriptors: Sequence[Descriptor]) -> bytes:
    return b"".join(struct.pack("<HH", kind, len(value)) + value for kind, value in descriptors)


def _sized(rest: bytes) -> bytes:
    if len(rest) + 2 > 0xFFFF:
        raise ValueError(f"a record of {len(rest) + 2} bytes doesn't fit the format")
    return struct.pack("<H", len(rest) + 2) + rest


def _start(record: DeviceRecord | DownstreamRecord, options: int, text: str, bits: int, revision: int) -> bytes:
    """What both kinds of record begin with, behind their length."""
    kind_and_length, raw = _string(text)[:2], text.encode()
    return (
        bytes((len(record.descriptors),))
        + struct.pack("<I", options)
        + kind_and_length
        + struct.pack("<H", len(record.data))
        + (struct.pack("<I", len(record.manifest)) if revision >= 4 else b"")
        + _bitmap(record.images, bits)
        + raw
    )


def _device(record: DeviceRecord, bits: int, revision: int) -> bytes:
    start = _start(record, record.options, record.version, bits, revision)
    return _sized(start + _descriptor_bytes(record.descriptors) + record.data + record.manifest)


def _downstream(record: DownstreamRecord, bits: int, revision: int) -> bytes:
    stamped = record.least_stamp is not None
    options = record.options | STAMPED if stamped else record.options & ~STAMPED
    start = _start(record, options, record.least_version, bits, revision)
    stamp = struct.pack("<I", record.least_stamp) if stamped else b""
    return _sized(start + stamp + _descriptor_bytes(record.descriptors) + record.data + record.manifest)


def _entry(image: NewImage, offset: int, revision: int) -> bytes:
    fixed = struct.pack(
        "<HHIHHII", image.classification, image.identifier, image.stamp, image.options, image.bits, offset,
        len(image.content),
    )  # fmt: skip
    opaque = struct.pack("<I", len(image.opaque)) + image.opaque if revision >= 3 else b""
    return fixed + _string(image.version) + opaque


def _table(images: Sequence[NewImage], header_size: int, revision: int) -> bytes:
    table, offset = struct.pack("<H", len(images)), header_size
    for image in images:
        table += _entry(image, offset, revision)
        offset += len(image.content)
    return table


def _time_bytes(moment: datetime.datetime | None) -> bytes:
    if moment is None:
        return bytes(13)
    offset = moment.utcoffset() or datetime.timedelta()
    return (
        struct.pack("<h", int(offset.total_seconds() // 60))
        + moment.microsecond.to_bytes(3, "little")
        + bytes((moment.second, moment.minute, moment.hour, moment.day, moment.month))
        + struct.pack("<HB", moment.year, 0)
    )
