"""PLDM packages: what is written is read back; every broken field is named."""

from __future__ import annotations

import dataclasses
import datetime
import tracemalloc
import zlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import (
    IDENTIFIERS,
    DeviceRecord,
    DownstreamRecord,
    NewImage,
    device_descriptors,
    find_record,
    parse_package,
    read_package,
    spell_descriptor,
    tell_mismatch,
    write_package,
)
from ordnung.formats.pldm.match import find_mismatch
from ordnung.formats.pldm.model import DESCRIPTOR_LENGTHS, device_data

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


# Every kind of record, in every revision that knows it.

REVISIONS = st.sampled_from([1, 2, 3, 4])
FIXED = {kind: length for kind, length in DESCRIPTOR_LENGTHS.items() if kind >= 0x0100}


@st.composite
def descriptors(draw):
    """A vendor's descriptor, then any others, each as long as its kind says."""
    first = draw(st.sampled_from([k for k in DESCRIPTOR_LENGTHS if k < 0x0100]))
    found = [(first, draw(st.binary(min_size=DESCRIPTOR_LENGTHS[first], max_size=DESCRIPTOR_LENGTHS[first])))]
    for kind in draw(st.lists(st.sampled_from([*FIXED, 0xFFFF, 0x7000]), max_size=4)):
        if kind == 0xFFFF:
            title = draw(st.text(max_size=5)).encode()
            found.append((kind, bytes((2, len(title))) + title + draw(st.binary(max_size=6))))
        elif kind == 0x7000:
            found.append((kind, draw(st.binary(max_size=9))))
        else:
            found.append((kind, draw(st.binary(min_size=FIXED[kind], max_size=FIXED[kind]))))
    return tuple(found)


@st.composite
def packages(draw):
    """Everything a package can say, within what its revision knows."""
    revision = draw(REVISIONS)
    images = draw(st.lists(st.tuples(texts, st.binary(max_size=30), st.binary(max_size=9)), min_size=1, max_size=5))
    some = st.sets(st.integers(0, len(images) - 1)).map(lambda s: tuple(sorted(s)))
    manifest = st.binary(max_size=9) if revision >= 4 else st.just(b"")
    device = st.builds(
        DeviceRecord, descriptors=descriptors(), images=some, version=texts, data=st.binary(max_size=20),
        options=st.integers(0, 2**32 - 1), manifest=manifest,
    )  # fmt: skip
    behind = st.builds(
        DownstreamRecord, descriptors=descriptors(), images=some, least_version=texts,
        least_stamp=st.none() | st.integers(0, 2**32 - 1), data=st.binary(max_size=20), manifest=manifest,
    )  # fmt: skip
    made = [
        NewImage(
            version=version, content=content, activation=draw(st.integers(0, 0xFFFF)), opaque=opaque if revision >= 3 else b"",
            identifier=draw(st.integers(0, 0xFFFF)), classification=draw(st.integers(0, 0xFFFF)),
            stamp=draw(st.integers(0, 2**32 - 1)), options=draw(st.integers(0, 0xFFFF)),
        )
        for version, content, opaque in images
    ]  # fmt: skip
    downstream = draw(st.lists(behind, max_size=3)) if revision >= 2 else []
    return revision, draw(st.lists(device, min_size=1, max_size=3)), made, downstream


def without_stamp_flag(record):
    """The flag that a stamp follows is the writer's to set."""
    return dataclasses.replace(record, options=record.options & ~1)


@given(packages())
def test_everything_a_package_says_is_read_back(made):
    revision, devices, images, downstream = made
    raw = write_package(devices, images, version="1", released=MOMENT, revision=revision, downstream=downstream)
    package = parse_package(raw)
    assert package.devices == tuple(devices) and package.trailing == 0
    assert tuple(map(without_stamp_flag, package.downstream)) == tuple(downstream)
    for told, image in zip(package.images, images, strict=True):
        assert raw[told.offset : told.offset + told.size] == image.content
        for name in ("version", "identifier", "classification", "stamp", "options", "opaque"):
            assert getattr(told, name) == getattr(image, name)
        assert told.activation == image.bits


@given(packages(), st.data())
def test_a_header_altered_or_cut_anywhere_is_a_named_error_or_nothing_else(made, data):
    """With its checksum made right again, so that every field is really reached."""
    revision, devices, images, downstream = made
    raw = bytearray(
        write_package(devices, images, version="1", released=MOMENT, revision=revision, downstream=downstream)
    )
    end = int.from_bytes(raw[17:19], "little") - (8 if revision == 4 else 4)
    place = data.draw(st.integers(19, end - 1))
    raw[place] = data.draw(st.integers(0, 255))
    raw[end : end + 4] = zlib.crc32(raw[:end]).to_bytes(4, "little")
    assert all(" at byte " in place for place in faults_of(bytes(raw)))


def faults_of(raw: bytes) -> list[str]:
    """Where a package is broken, or nothing."""
    try:
        parse_package(raw, "x.pldm")
    except FormatError as error:
        return [error.place]
    return []


def test_a_large_package_is_read_without_its_images(tmp_path):
    path = tmp_path / "large.pldm"
    path.write_bytes(build(4, content=bytes(8_000_000)))
    tracemalloc.start()
    package = read_package(path)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert package.size > 8_000_000 and peak < 3_000_000
    with path.open("r+b") as file:
        file.seek(-1, 2)
        file.write(b"!")
    assert read_package(path, sums=False).size == package.size
    with pytest.raises(FormatError, match="PLDMFWPackagePayloadChecksum"):
        read_package(path)


@pytest.mark.parametrize(
    ("change", "what"),
    [
        ({"revision": 7}, "revision 7 is not known"),
        (
            {"revision": 1, "downstream": [DownstreamRecord(descriptors=((2, bytes(16)),), images=())]},
            "downstream devices need",
        ),
        ({"version": "x" * 300}, "300 bytes"),
    ],
)
def test_what_the_format_cannot_hold_is_not_written(change, what):
    device = DeviceRecord(descriptors=((2, bytes(16)),), images=(0,), version="1")
    image = NewImage(version="1", content=b"", activation="at once")
    with pytest.raises(ValueError, match=what):
        write_package([device], [image], **{"version": "1", "released": None, **change})


def with_images(*spans: tuple[int, int]) -> bytes:
    """Two images whose places in the table are altered afterwards."""
    device = DeviceRecord(descriptors=((2, bytes(16)),), images=(0, 1), version="1")
    images = [NewImage(version="1", content=b"i" * 100, activation="at once") for _ in spans]
    raw = bytearray(write_package([device], images, version="1", released=None, revision=1))
    size = int.from_bytes(raw[17:19], "little")
    for number, (shift, length) in enumerate(spans):
        at = size - 4 - 23 * (len(spans) - number) + 12
        raw[at : at + 8] = (size + shift).to_bytes(4, "little") + length.to_bytes(4, "little")
    raw[size - 4 : size] = zlib.crc32(raw[: size - 4]).to_bytes(4, "little")
    return bytes(raw)


@pytest.mark.parametrize(
    ("spans", "trailing"), [(((0, 100), (100, 100)), 0), (((0, 50), (100, 60)), 40), (((0, 0), (0, 100)), 100)]
)
def test_images_may_lie_apart(spans, trailing):
    assert parse_package(with_images(*spans)).trailing == trailing


@pytest.mark.parametrize("spans", [((0, 101), (100, 100)), ((50, 100), (0, 100))])
def test_images_may_not_lie_over_each_other(spans):
    with pytest.raises(FormatError, match="lies over"):
        parse_package(with_images(*spans))


@pytest.mark.parametrize(
    ("kind", "value", "told"),
    [
        (0x0000, b"\xe3\xff", "ffe3"), (0x0107, b"NIC-25    ", "NIC-25"), (0x010B, b"\x02\x09", "02 to 09"),
        (0xFFFF, b"\x02\x04slot\x07", "slot 07"), (0xFFFF, b"\x02", "02"), (0x010A, bytes(range(8)), "0001020304050607"),
    ],
)  # fmt: skip
def test_descriptors_in_words(kind, value, told):
    assert spell_descriptor(kind, value) == told


def test_a_range_of_revisions_is_met_by_what_lies_in_it():
    record = DeviceRecord(descriptors=((0, b"\xe3\xff"), (0x010B, b"\x02\x09")), images=(), version="1")
    for revision, fits in ((1, False), (2, True), (9, True), (10, False)):
        found = find_mismatch(record, ((0, b"\xe3\xff"), (0x0103, bytes([revision]))))
        assert (found is None) is fits
    assert (
        str(find_mismatch(record, ((0, b"\xe3\xff"),)))
        == "the package is for PCI revision range 02 to 09, the device has none"
    )
