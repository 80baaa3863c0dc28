"""PLDM packages: what is written is read back; every broken field is named."""

from __future__ import annotations

import datetime
import zlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import (
    IDENTIFIERS,
    DeviceRecord,
    NewImage,
    device_descriptors,
    find_record,
    parse_package,
    tell_mismatch,
    write_package,
)
from ordnung.formats.pldm.model import device_data

MOMENT = datetime.datetime(2026, 10, 7, 12, 30, 5, tzinfo=datetime.UTC)
NIC = "ffe3:0025:ffe3:0002"


def build(revision: int = 4, content: bytes = b"firmware" * 50, activation: str = "server reboot") -> bytes:
    image = NewImage(version="3.2.0", content=content, activation=activation)
    data = device_data({"software_id": "QUO-Q25"})
    device = DeviceRecord(descriptors=device_descriptors("QUO-Q25", NIC), images=(0,), version="3.2.0", data=data)
    return write_package([device], [image], version="3.2.0", released=MOMENT, revision=revision)


@pytest.mark.parametrize("revision", [1, 2, 3, 4])
def test_every_revision_is_read_back(revision):
    package = parse_package(build(revision))
    assert (package.revision, package.version, package.released) == (revision, "3.2.0", MOMENT)
    (record,), (image,) = package.devices, package.images
    assert record.rules() == {"software_id": "QUO-Q25"} and record.images == (0,)
    assert image.activations() == ("server reboot",)
    assert build(revision)[image.offset : image.offset + image.size] == b"firmware" * 50


texts = st.text(min_size=1, max_size=20).filter(lambda t: len(t.encode()) < 200)


@given(
    st.sampled_from([1, 2, 3, 4]),
    st.lists(st.tuples(texts, st.binary(max_size=50)), min_size=1, max_size=9),
    st.dictionaries(st.text(max_size=8), st.text(max_size=8), max_size=3),
)
def test_writing_and_reading_round_trip(revision, images, rules):
    made = [NewImage(version=v, content=c, activation="at once") for v, c in images]
    every = tuple(range(len(images)))
    device = DeviceRecord(descriptors=device_descriptors("X", None), images=every, version="1", data=device_data(rules))
    raw = write_package([device], made, version="1", released=MOMENT, revision=revision)
    package = parse_package(raw)
    assert [(i.version, raw[i.offset : i.offset + i.size]) for i in package.images] == images
    assert package.devices[0].rules() == rules
    assert package.devices[0].images == tuple(range(len(images)))


@pytest.mark.parametrize("revision", [1, 4])
def test_the_same_values_give_the_same_bytes(revision):
    assert build(revision) == build(revision)


@given(st.integers(0, 10_000), st.sampled_from([1, 4]))
def test_a_cut_package_is_always_refused(length, revision):
    raw = build(revision)
    if length < len(raw):
        with pytest.raises(FormatError):
            parse_package(raw[:length])


@given(st.integers(0, 10_000), st.integers(1, 255))
def test_revision_4_refuses_every_altered_byte(place, flip):
    raw = bytearray(build(4))
    raw[place % len(raw)] ^= flip
    with pytest.raises(FormatError):
        parse_package(bytes(raw))


def altered(at: int, value: bytes, revision: int = 1) -> bytes:
    """A package with a field changed and the header's checksum made right again."""
    raw = bytearray(build(revision))
    raw[at : at + len(value)] = value
    size = int.from_bytes(raw[17:19], "little")
    end = size - (8 if revision == 4 else 4)
    if 40 <= size <= len(raw):
        raw[end : end + 4] = zlib.crc32(raw[:end]).to_bytes(4, "little")
    return bytes(raw)


BITMAP = 32
IMAGES = len(build(1)) - 400 - 4 - 22 - 5  # where the image's record begins


@pytest.mark.parametrize(
    ("raw", "place", "what"),
    [
        (b"", "PackageHeaderIdentifier", "cut short"),
        (b"\0" * 60, "PackageHeaderIdentifier", "not a PLDM firmware package"),
        (IDENTIFIERS[1].bytes + b"\x04" + b"\0" * 60, "PackageHeaderIdentifier", "doesn't belong to revision 4"),
        (altered(17, b"\xff\xff"), "PackageHeaderSize", "cut short"),
        (altered(17, b"\x05\x00"), "PackageHeaderSize", "too small"),
        (build(1)[:40] + b"\xff" + build(1)[41:], "PackageHeaderChecksum", "altered"),
        (altered(BITMAP, b"\x09\x00"), "ComponentBitmapBitLength", "not a multiple of 8"),
        (altered(34, b"\x09"), "PackageVersionString", "string type 9"),
        (altered(IMAGES + 12, b"\x01\x00\x00\x00"), "ComponentLocationOffset", "inside the header"),
        (altered(IMAGES + 16, b"\xff\xff\xff\x7f"), "ComponentSize", "cut short"),
        (build(4)[:-1] + b"!", "PLDMFWPackagePayloadChecksum", "checksum is wrong"),
    ],
)
def test_a_broken_field_is_named_with_its_offset(raw, place, what):
    with pytest.raises(FormatError) as caught:
        parse_package(raw, "bios.pldm")
    assert caught.value.place.startswith(place) and " at byte " in caught.value.place
    assert what in caught.value.what and str(caught.value).startswith("bios.pldm: ")


def test_a_device_matches_when_all_descriptors_are_its_own():
    package = parse_package(build())
    assert find_record(package, device_descriptors("any", NIC)) is package.devices[0]
    other = device_descriptors("any", "ffe3:0100:ffe3:0002")
    assert find_record(package, other) is None
    assert tell_mismatch(package, other) == "the package is for PCI device 0025, the device has 0100"
