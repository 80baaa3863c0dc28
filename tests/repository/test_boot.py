"""Discs that boot by themselves: the loaders on the image, as other readers see them, and attacked."""

from __future__ import annotations

import re
import struct
import subprocess

import pytest

from ordnung.repository import check_carrier, open_carrier, write_as
from ordnung.repository.boot import (
    LOADERS,
    BootSystem,
    find_boot_system,
    find_changed_loaders,
    is_bootable,
    write_loader_settings,
)
from ordnung.repository.sealed import only_new
from ordnung.store import RepositoryError
from tests.repository.sealing import PAYLOADS, open_book, seal

PARTS = {
    "boot/base.json": b"{}", "boot/bios.img": bytes(range(256)) * 40, "boot/efi.img": b"efi " * 4096,
    "boot/initrd": b"initrd" * 999, "boot/kit.tar": b"kit" * 5000, "boot/mbr.img": b"M" * 512,
    "boot/system.squashfs": b"system" * 20000, "boot/vmlinuz": b"kernel" * 3000,
}  # fmt: skip
SECTOR = 2048


@pytest.fixture(scope="module")
def carrier(tmp_path_factory):
    folder = tmp_path_factory.mktemp("boot")
    return seal(folder, open_book(folder), {**PAYLOADS, **PARTS})


@pytest.fixture(scope="module")
def image(carrier, tmp_path_factory):
    return write_as("iso", carrier, tmp_path_factory.mktemp("image") / "disc.iso").path


def sectors(image, place, count=1):
    with image.open("rb") as file:
        file.seek(place * SECTOR)
        return file.read(count * SECTOR)


def test_the_catalogue_leads_to_both_loaders(image, carrier):
    """El Torito 1.0: boot record in sector 17, validation entry, BIOS entry, a section for UEFI."""
    record = sectors(image, 17)
    assert record[:7] == b"\0CD001\1" and record[7:30] == b"EL TORITO SPECIFICATION"
    catalogue = sectors(image, *struct.unpack_from("<I", record, 71))
    assert catalogue[0] == 1 and sum(struct.unpack("<16H", catalogue[:32])) & 0xFFFF == 0
    assert catalogue[32] == catalogue[96] == 0x88 and catalogue[64:66] == b"\x91\xef"
    bios, efi = struct.unpack_from("<I", catalogue, 40)[0], struct.unpack_from("<I", catalogue, 104)[0]
    count = struct.unpack_from("<H", catalogue, 102)[0]
    assert sectors(image, efi, 9)[: count * 512] == PARTS["boot/efi.img"]
    loader = sectors(image, bios, 5)
    assert loader[64:2048] == PARTS["boot/bios.img"][64:2048], "what is before byte 64 tells where it lies"
    assert struct.unpack_from("<II", loader, 8) == (16, bios)
    assert struct.unpack_from("<Q", loader, 2548)[0] == bios * 4 + 5


def test_on_a_stick_the_same_image_has_a_master_boot_record(image):
    start = sectors(image, 0)
    assert start[510:512] == b"\x55\xaa" and start[:400] == b"M" * 400
    whole, efi = (struct.unpack_from("<B3sB3sII", start, 446 + 16 * n) for n in range(2))
    assert (whole[0], whole[2], whole[4], whole[5]) == (0x80, 0, 0, image.stat().st_size // 512)
    assert efi[2] == 0xEF and sectors(image, efi[4] // 4, 9)[: efi[5] * 512] == PARTS["boot/efi.img"]


def test_other_readers_see_the_same(image):
    told = subprocess.run(
        ["xorriso", "-indev", image, "-report_el_torito", "plain", "-report_system_area", "plain"],
        check=True, capture_output=True, text=True,
    )  # fmt: skip
    assert re.search(r"boot img :\s+1\s+BIOS\s+y\s+none", told.stdout)
    assert re.search(r"boot img :\s+2\s+UEFI\s+y\s+none", told.stdout)
    assert "grub2-mbr" in told.stdout and re.search(r"partition\s+:\s+2\s+0x00\s+0xef", told.stdout)
    listed = subprocess.run(["7z", "l", image], check=True, capture_output=True, text=True).stdout
    assert "system.squashfs" in listed and "kit.tar" in listed and "grub.cfg" in listed


def test_the_loader_starts_what_is_sealed_by_its_checksum(image, carrier):
    with open_carrier(image) as found:
        boot = find_boot_system(found)
        assert boot is not None and boot.places == find_boot_system(carrier).places
        with found.open("boot/grub/grub.cfg") as file:
            settings = file.read().decode()
        assert settings.encode() == write_loader_settings(boot)
        for part in ("vmlinuz", "initrd"):
            assert f"/{boot.places[part]}" in settings and boot.places[part] in found.files
    assert f"ordnung.system={boot.checksum('system.squashfs')}" in settings
    assert f"ordnung.kit={boot.checksum('kit.tar')}" in settings


def test_the_same_repository_gives_the_same_disc_also_from_the_disc(image, carrier, tmp_path):
    again = write_as("iso", carrier, tmp_path / "again.iso").path
    assert again.read_bytes() == image.read_bytes()
    with open_carrier(image) as found:
        checked = check_carrier(found)
        assert checked.unsealed == () and checked.files == len(PAYLOADS) + len(PARTS) + 1
    folder = write_as("folder", carrier, tmp_path / "folder").path
    with open_carrier(folder) as plain:
        assert write_as("iso", plain, tmp_path / "third.iso").path.read_bytes() == image.read_bytes()


def places_of(image):
    """Every byte that decides what starts, by what it belongs to."""
    record = sectors(image, 17)
    (catalogue,) = struct.unpack_from("<I", record, 71)
    with open_carrier(image) as found:
        starts = {name: found.place(name) for name in LOADERS}
        sizes = {name: found.files[name] for name in LOADERS}
        boot = find_boot_system(found)
        starts |= {part: found.place(boot.places[part]) for part in boot.places}
        sizes |= {part: found.files[boot.places[part]] for part in boot.places}
    yield from ((f"master boot record {at}", at) for at in (0, 100, 0x1B0, 439, 446 + 16 + 8, 446 + 16 + 12))
    yield from ((f"boot record {at}", 17 * SECTOR + 71 + at) for at in range(4))
    yield from ((f"catalogue {at}", catalogue * SECTOR + at) for at in (32, 40, 42, 65, 96, 104, 107))
    for name in set(starts) - {"boot/boot.cat", ".disk/info"}:
        size = sizes[name]
        yield from (
            (f"{name} {at}", starts[name] + at)
            for at in {0, min(9, size - 1), min(2550, size - 1), size // 2, size - 1}
        )


def is_refused(image) -> bool:
    try:
        with open_carrier(image) as found:
            check_carrier(found)
    except RepositoryError:
        return True
    return False


def test_a_flipped_bit_in_whatever_starts_is_found(image, tmp_path):
    raw = image.read_bytes()
    copy = tmp_path / "flipped.iso"
    for what, at in places_of(image):
        flipped = bytearray(raw)
        flipped[at] ^= 1
        copy.write_bytes(flipped)
        assert is_refused(copy), what


def test_what_is_not_whole_does_not_boot(carrier, tmp_path):
    known = {path.rsplit("/", 1)[-1].split(".", 1)[0] for path in carrier.files if "vmlinuz" in path}
    part = write_as("iso", only_new(carrier, known), tmp_path / "part.iso").path
    assert sectors(part, 17)[7:11] != b"EL T" and sectors(part, 0) == bytes(SECTOR)
    assert is_bootable({*PARTS}) and not is_bootable({*PARTS} - {"boot/initrd"})


def test_a_disc_without_a_boot_system_is_as_it_was(tmp_path):
    plain = write_as("iso", seal(tmp_path, open_book(tmp_path)), tmp_path / "plain.iso").path
    assert sectors(plain, 0, 16) == bytes(16 * SECTOR)
    with open_carrier(plain) as found:
        assert find_boot_system(found) is None and not set(LOADERS) & set(found.files)


def test_loaders_that_are_hidden_are_not_taken_for_none(image, tmp_path):
    """Renamed in every directory, they are no file of the list any more; the catalogue leads to them all the same."""
    raw = image.read_bytes().replace(b"bios.img", b"bios.imx")
    hidden = tmp_path / "hidden.iso"
    hidden.write_bytes(raw)
    with open_carrier(hidden) as found:
        assert "boot/bios.img" not in found.files
        assert find_changed_loaders(found, BootSystem({})) == ("boot/bios.img",)
