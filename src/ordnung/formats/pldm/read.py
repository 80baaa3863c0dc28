"""The reader. It trusts no size before the file's length is known and names field and offset of every fault.

The header is at most 65,535 bytes (its size is a 16 bit number), so it is read whole; images are never
read into memory.
"""

from __future__ import annotations

import datetime
import io
import itertools
import uuid
import zlib
from pathlib import Path
from typing import BinaryIO

from ordnung.formats.errors import FormatError
from ordnung.formats.pldm.model import (
    DESCRIPTOR_LENGTHS,
    DESCRIPTOR_NAMES,
    IDENTIFIERS,
    STAMPED,
    VENDOR_DEFINED,
    Descriptor,
    DeviceRecord,
    DownstreamRecord,
    Image,
    Package,
)

MAX_HEADER = 65535
CHUNK = 1024 * 1024
_ENCODINGS = {0: "ascii", 1: "ascii", 2: "utf-8", 3: "utf-16", 4: "utf-16-le", 5: "utf-16-be"}


class _Cursor:
    """Reads fields one after the other; a field that isn't all there is an error with its offset."""

    def __init__(self, raw: bytes, size: int, source: str) -> None:
        """``raw`` is the beginning of the file, ``size`` the length of all of it."""
        self.raw, self.size, self.source, self.at = raw, size, source, 0

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

    def bitmap(self, field: str, bits: int) -> tuple[int, ...]:
        value = self.number(field, bits // 8)
        return tuple(n for n in range(bits) if value >> n & 1)


def parse_package(raw: bytes, source: str = "package") -> Package:
    """Read and verify a whole package. Raises as ``read_package`` does."""
    return _read(io.BytesIO(raw), len(raw), source)


def read_package(path: Path, source: str | None = None, *, sums: bool = True) -> Package:
    """Read a package file and verify all it says of itself.

    Args:
        sums: False leaves out the payload checksum of revision 4, which takes a pass over all images;
            for files whose bytes are vouched for otherwise.

    Raises:
        FormatError: an unknown identifier or revision, a wrong checksum, lengths that don't add up,
            an image outside the file, inside the header or over another one, a descriptor of the
            wrong length, a string that doesn't decode.
        OSError: the file can't be read.
    """
    with path.open("rb") as file:
        return _read(file, path.stat().st_size, source or path.name, sums=sums)


def _read(file: BinaryIO, size: int, source: str, *, sums: bool = True) -> Package:
    cursor = _Cursor(file.read(MAX_HEADER), size, source)
    revision, header_size = _start(cursor)
    _check_header(cursor, revision, header_size)
    if revision >= 4 and sums:
        _check_payload(cursor, file, header_size)
    at = cursor.at
    released = _time(cursor.take("PackageReleaseDateTime", 13), cursor, at)
    bits = cursor.number("ComponentBitmapBitLength", 2)
    if bits % 8:
        raise cursor.fail("ComponentBitmapBitLength", f"{bits} is not a multiple of 8", cursor.at - 2)
    kind, length = cursor.number("PackageVersionStringType", 1), cursor.number("PackageVersionStringLength", 1)
    version = cursor.text("PackageVersionString", kind, length)
    devices = tuple(_device(cursor, revision, bits) for _ in range(cursor.number("DeviceIDRecordCount", 1)))
    downstream: tuple[DownstreamRecord, ...] = ()
    if revision >= 2:
        count = cursor.number("DownstreamDeviceIDRecordCount", 1)
        downstream = tuple(_downstream(cursor, revision, bits) for _ in range(count))
    count = cursor.number("ComponentImageCount", 2)
    if count > bits:
        raise cursor.fail("ComponentImageCount", f"{count} images, but the bitmap has {bits} bits", cursor.at - 2)
    images = tuple(_image(cursor, revision, header_size) for _ in range(count))
    _check_ends(cursor, revision, header_size, devices, downstream, images)
    end = max((image.offset + image.size for image in images), default=header_size)
    return Package(
        revision=revision, version=version, released=released, header_size=header_size, size=size,
        devices=devices, images=images, downstream=downstream, trailing=size - end,
    )  # fmt: skip


def _start(cursor: _Cursor) -> tuple[int, int]:
    identifier = uuid.UUID(bytes=cursor.take("PackageHeaderIdentifier", 16))
    revision = cursor.number("PackageHeaderFormatRevision", 1)
    if IDENTIFIERS.get(revision) != identifier:
        known = identifier in IDENTIFIERS.values()
        what = f"doesn't belong to revision {revision}" if known else "this is not a PLDM firmware package"
        raise cursor.fail("PackageHeaderIdentifier", what, 0)
    header_size = cursor.number("PackageHeaderSize", 2)
    if header_size > cursor.size:
        raise cursor.fail("PackageHeaderSize", f"{header_size}, but the file has {cursor.size} bytes: cut short", 17)
    if header_size < 40:
        raise cursor.fail("PackageHeaderSize", f"{header_size} is too small for a header", 17)
    cursor.raw = cursor.raw[:header_size]
    return revision, header_size


def _check_header(cursor: _Cursor, revision: int, header_size: int) -> None:
    at = header_size - (8 if revision >= 4 else 4)
    stated = int.from_bytes(cursor.raw[at : at + 4], "little")
    if stated != zlib.crc32(cursor.raw[:at]):
        raise cursor.fail("PackageHeaderChecksum", "the header was altered: its checksum is wrong", at)


def _check_payload(cursor: _Cursor, file: BinaryIO, header_size: int) -> None:
    file.seek(header_size)
    found = 0
    while piece := file.read(CHUNK):
        found = zlib.crc32(piece, found)
    if int.from_bytes(cursor.raw[header_size - 4 :], "little") != found:
        what = "the images were altered or cut short: their checksum is wrong"
        raise cursor.fail("PLDMFWPackagePayloadChecksum", what, header_size - 4)


def _device(cursor: _Cursor, revision: int, bits: int) -> DeviceRecord:
    start = cursor.at
    length = cursor.number("RecordLength", 2)
    count = cursor.number("DescriptorCount", 1)
    options = cursor.number("DeviceUpdateOptionFlags", 4)
    kind, text = (
        cursor.number("ComponentImageSetVersionStringType", 1),
        cursor.number("ComponentImageSetVersionStringLength", 1),
    )
    data_length = cursor.number("FirmwareDevicePackageDataLength", 2)
    manifest = cursor.number("ReferenceManifestLength", 4) if revision >= 4 else 0
    images = cursor.bitmap("ApplicableComponents", bits)
    version = cursor.text("ComponentImageSetVersionString", kind, text)
    descriptors = _descriptors(cursor, count)
    data = cursor.take("FirmwareDevicePackageData", data_length)
    manifest_data = cursor.take("ReferenceManifestData", manifest)
    if cursor.at - start != length:
        raise cursor.fail("RecordLength", f"says {length}, the record has {cursor.at - start} bytes", start)
    if not descriptors or descriptors[0][0] >= 0x0100:
        raise cursor.fail("DescriptorCount", "a record begins with a vendor's descriptor", start + 2)
    return DeviceRecord(
        descriptors=descriptors, images=images, version=version, data=data, options=options, manifest=manifest_data
    )


def _downstream(cursor: _Cursor, revision: int, bits: int) -> DownstreamRecord:
    start = cursor.at
    length = cursor.number("DownstreamDeviceRecordLength", 2)
    count = cursor.number("DownstreamDeviceDescriptorCount", 1)
    options = cursor.number("DownstreamDeviceUpdateOptionFlags", 4)
    kind, text = (
        cursor.number("DownstreamDeviceSelfContainedActivationMinVersionStringType", 1),
        cursor.number("DownstreamDeviceSelfContainedActivationMinVersionStringLength", 1),
    )
    data_length = cursor.number("DownstreamDevicePackageDataLength", 2)
    manifest = cursor.number("DownstreamDeviceReferenceManifestLength", 4) if revision >= 4 else 0
    images = cursor.bitmap("DownstreamDeviceApplicableComponents", bits)
    least = cursor.text("DownstreamDeviceSelfContainedActivationMinVersionString", kind, text)
    stamp = None
    if options & STAMPED:
        stamp = cursor.number("DownstreamDeviceSelfContainedActivationMinVersionComparisonStamp", 4)
    descriptors = _descriptors(cursor, count)
    data = cursor.take("DownstreamDevicePackageData", data_length)
    manifest_data = cursor.take("DownstreamDeviceReferenceManifestData", manifest)
    if cursor.at - start != length:
        what = f"says {length}, the record has {cursor.at - start} bytes"
        raise cursor.fail("DownstreamDeviceRecordLength", what, start)
    return DownstreamRecord(
        descriptors=descriptors, images=images, least_version=least, least_stamp=stamp, data=data,
        options=options, manifest=manifest_data,
    )  # fmt: skip


def _descriptors(cursor: _Cursor, count: int) -> tuple[Descriptor, ...]:
    return tuple(_descriptor(cursor) for _ in range(count))


def _descriptor(cursor: _Cursor) -> Descriptor:
    kind, at = cursor.number("DescriptorType", 2), cursor.at
    length = cursor.number("DescriptorLength", 2)
    length_due = DESCRIPTOR_LENGTHS.get(kind)
    if length_due is not None and length != length_due:
        what = f"a {DESCRIPTOR_NAMES[kind]} descriptor has {length_due} bytes, this one {length}"
        raise cursor.fail("DescriptorLength", what, at)
    start = cursor.at
    value = cursor.take("DescriptorData", length)
    if kind == VENDOR_DEFINED and (length < 2 or length < 2 + value[1]):
        raise cursor.fail("VendorDefinedDescriptorTitleStringLength", "the title is longer than the descriptor", start)
    return kind, value


def _image(cursor: _Cursor, revision: int, header_size: int) -> Image:
    start = cursor.at
    classification = cursor.number("ComponentClassification", 2)
    identifier = cursor.number("ComponentIdentifier", 2)
    stamp = cursor.number("ComponentComparisonStamp", 4)
    options = cursor.number("ComponentOptions", 2)
    activation = cursor.number("RequestedComponentActivationMethod", 2)
    offset, size = cursor.number("ComponentLocationOffset", 4), cursor.number("ComponentSize", 4)
    kind, length = cursor.number("ComponentVersionStringType", 1), cursor.number("ComponentVersionStringLength", 1)
    version = cursor.text("ComponentVersionString", kind, length)
    opaque = b""
    if revision >= 3:
        opaque = cursor.take("ComponentOpaqueData", cursor.number("ComponentOpaqueDataLength", 4))
    if offset < header_size:
        raise cursor.fail("ComponentLocationOffset", f"{offset} lies inside the header", start + 12)
    if offset + size > cursor.size:
        what = f"ends at {offset + size}, the file has {cursor.size} bytes: cut short"
        raise cursor.fail("ComponentSize", what, start + 16)
    return Image(
        classification=classification, identifier=identifier, stamp=stamp, options=options, activation=activation,
        offset=offset, size=size, version=version, opaque=opaque,
    )  # fmt: skip


def _check_ends(
    cursor: _Cursor,
    revision: int,
    header_size: int,
    devices: tuple[DeviceRecord, ...],
    downstream: tuple[DownstreamRecord, ...],
    images: tuple[Image, ...],
) -> None:
    """What only the whole tells: where the header ends, that records name images, that no two images overlap."""
    end = cursor.at + (8 if revision >= 4 else 4)
    if end != header_size:
        raise cursor.fail("PackageHeaderSize", f"says {header_size}, the fields end at {end}", 17)
    records: tuple[DeviceRecord | DownstreamRecord, ...] = (*devices, *downstream)
    for record in records:
        if record.images and record.images[-1] >= len(images):
            what = f"names image {record.images[-1] + 1}, the package has {len(images)}"
            raise cursor.fail("ApplicableComponents", what)
    placed = sorted((image.offset, image.size) for image in images if image.size)
    for (first, size), (second, _) in itertools.pairwise(placed):
        if first + size > second:
            raise cursor.fail("ComponentLocationOffset", f"the image at {second} lies over the one at {first}")


def _time(piece: bytes, cursor: _Cursor, at: int) -> datetime.datetime | None:
    """A timestamp104 (DSP0240): offset minutes, microseconds, s, min, h, day, month, year, resolution.

    None when it is not set (month, day or year zero); FormatError when it is no time.
    """
    offset = int.from_bytes(piece[:2], "little", signed=True)
    micro = int.from_bytes(piece[2:5], "little")
    second, minute, hour, day, month = piece[5:10]
    year = int.from_bytes(piece[10:12], "little")
    if not (day and month and year):
        return None
    try:
        zone = datetime.timezone(datetime.timedelta(minutes=offset))
        return datetime.datetime(year, month, day, hour, minute, second, micro, zone)
    except ValueError as error:
        raise cursor.fail("PackageReleaseDateTime", f"this is no time: {error}", at) from None
