"""Discs that boot by themselves: where firmware finds its loaders on the image, and what those load.

A repository that was packed with the boot system carries it under seal like everything else (``boot/`` among its
targets). On a disc image the loaders need more: an El Torito catalogue with an entry for BIOS and one for UEFI, and
for the same image on a stick a master boot record. Those few sectors hold where on the image something lies, so that no
seal can cover them; ``find_changed_loaders`` makes them again from what is sealed and compares.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Container, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, BinaryIO

from ordnung.repository.carriers import Carrier, ImageCarrier
from ordnung.repository.contents import LOADERS

BOOT = "boot/"
PARTS = ("base.json", "bios.img", "efi.img", "initrd", "kit.tar", "mbr.img", "system.squashfs", "vmlinuz")
"""The boot system among a repository's targets."""
_PLAIN = {
    ".disk/info": "/DISK/INFO.;1",
    "boot/bios.img": "/BOOT/BIOS.IMG;1",
    "boot/boot.cat": "/BOOT/BOOT.CAT;1",
    "boot/grub/grub.cfg": "/BOOT/GRUB/GRUB.CFG;1",
}
"""The loaders' files by name, and their plain ISO 9660 names."""
_FOLDERS = ((".disk", "/DISK"), ("boot", "/BOOT"), ("boot/grub", "/BOOT/GRUB"))
SECTOR, BLOCK = 2048, 512
_BLOCKS = SECTOR // BLOCK
_INFO_AT, _INFO_SIZE = 8, 56
"""El Torito's boot information table in the BIOS loader."""
_LOADER_AT, _LOADER_FROM = 2548, 5
"""Where GRUB's loader for discs keeps the 512-byte block that the rest of it begins in, counted from its own."""
_HYBRID_AT, _HYBRID_FROM = 0x1B0, 4
"""The same in its master boot record, for an image that lies on a stick."""
_TABLE_AT, _ENTRY = 446, struct.Struct("<B3sB3sII")
EFI_SYSTEM, WHOLE = 0xEF, 0x00
"""Partition types: an EFI system partition; the whole image, which no system is to mount by itself."""
_KERNEL = "console=ttyS0,115200n8 console=tty0 consoleblank=0 panic=60 quiet"
"""Both consoles; a screen that stays on; after a panic it starts again, and a stick goes on."""
_NO_CYLINDERS = b"\xfe\xff\xff"


@dataclass(frozen=True, slots=True)
class BootSystem:
    """The boot system of one repository: where each part lies on its carrier, and its checksum."""

    places: Mapping[str, str]

    def checksum(self, part: str) -> str:
        """The SHA-256 that a part has by its name."""
        return self.places[part].rsplit("/", 1)[-1].split(".", 1)[0]


def is_bootable(targets: Container[str]) -> bool:
    """Whether the boot system is among the targets of a repository."""
    return all(BOOT + part in targets for part in PARTS)


def find_boot_system(carrier: Carrier) -> BootSystem | None:
    """The boot system on a carrier; None where the repository has none, or not all of it lies here."""
    places = {}
    for path in carrier.files:
        folder, _, name = path.rpartition("/")
        _, _, part = name.partition(".")
        if folder == "targets/boot" and part in PARTS:
            places[part] = path
    return BootSystem(places) if len(places) == len(PARTS) else None


def write_loader_settings(boot: BootSystem) -> bytes:
    """What the loader shows and starts. The checksums go along, so that what starts is what was sealed."""
    given = f"ordnung.system={boot.checksum('system.squashfs')} ordnung.kit={boot.checksum('kit.tar')}"
    lines = [
        "if serial --unit=0 --speed=115200; then",
        "  terminal_input console serial",
        "  terminal_output console serial",
        "fi",
        "set timeout=3",
        f"search --set=root --file /{boot.places['vmlinuz']}",
    ]
    choices = (
        ("Read this server, ask, bring it level", ""),
        ("Bring this server level without asking", " ordnung.mode=unasked"),
        ("Only report what is in this server", " ordnung.mode=report"),
    )
    for title, more in choices:
        lines += [
            f'menuentry "{title}" {{',
            f"  linux /{boot.places['vmlinuz']} {_KERNEL} {given}{more}",
            f"  initrd /{boot.places['initrd']}",
            "}",
        ]
    return ("\n".join(lines) + "\n").encode("ascii")


def add_loaders(iso: Any, carrier: Carrier, boot: BootSystem, efi: str) -> None:
    """Put the loaders' files and their catalogue on an image; ``efi`` is the plain name of its UEFI part."""
    for name, plain in _FOLDERS:
        iso.add_directory(plain, rr_name=name.rsplit("/", 1)[-1], joliet_path=f"/{name}", file_mode=0o040555)
    bios = _read(carrier, boot, "bios.img")
    files = {".disk/info": b"Ordnung\n", "boot/grub/grub.cfg": write_loader_settings(boot), "boot/bios.img": bios}
    for name, raw in files.items():
        plain = _PLAIN[name]
        last = name.rsplit("/", 1)[-1]
        iso.add_fp(io.BytesIO(raw), len(raw), plain, rr_name=last, joliet_path=f"/{name}", file_mode=0o100444)
    catalogue = _PLAIN["boot/boot.cat"]
    iso.add_eltorito(
        _PLAIN["boot/bios.img"], catalogue, rr_bootcatname="boot.cat", joliet_bootcatfile="/boot/boot.cat",
        boot_load_size=_BLOCKS, boot_info_table=True,
    )  # fmt: skip
    blocks = carrier.files[boot.places["efi.img"]] // BLOCK
    iso.add_eltorito(efi, catalogue, platform_id=EFI_SYSTEM, boot_load_size=blocks, efi=True)


def _read(carrier: Carrier, boot: BootSystem, part: str) -> bytes:
    with carrier.open(boot.places[part]) as file:
        return file.read()


@dataclass(frozen=True, slots=True, kw_only=True)
class Layout:
    """Where on an image the loaders lie: sectors of 2,048 bytes; ``size`` is that of the image in bytes."""

    bios: int
    efi: int
    efi_size: int
    size: int


def read_layout(iso: Any, boot: BootSystem, plain: Mapping[str, str], size: int) -> Layout:
    """Where the loaders came to lie on an image that was written; ``plain`` has its files' ISO 9660 names."""
    bios = iso.get_record(iso_path=_PLAIN["boot/bios.img"])
    efi = iso.get_record(iso_path=plain[boot.places["efi.img"]])
    return Layout(
        bios=bios.extent_location(), efi=efi.extent_location(), efi_size=efi.get_data_length(), size=size
    )  # fmt: skip


def loader_patches(layout: Layout, mbr: bytes) -> Iterator[tuple[int, bytes]]:
    """(position, bytes) of what is written once it is known where everything lies.

    Args:
        mbr: GRUB's master boot record for images that are disc and stick at once.
    """
    rest = struct.pack("<Q", layout.bios * _BLOCKS + _LOADER_FROM)
    yield layout.bios * SECTOR + _LOADER_AT, rest
    table = _entry(0x80, WHOLE, 0, layout.size // BLOCK) + _entry(
        0, EFI_SYSTEM, layout.efi * _BLOCKS, layout.efi_size // BLOCK
    )
    record = bytearray(mbr[:BLOCK])
    record[_HYBRID_AT : _HYBRID_AT + 8] = struct.pack("<Q", layout.bios * _BLOCKS + _HYBRID_FROM)
    record[_TABLE_AT : _TABLE_AT + 64] = table + bytes(64 - len(table))
    record[510:512] = b"\x55\xaa"
    yield 0, bytes(record)


def _entry(flag: int, kind: int, first: int, count: int) -> bytes:
    return _ENTRY.pack(flag, _NO_CYLINDERS, kind, _NO_CYLINDERS, first, count)


def patch_loaders(file: BinaryIO, carrier: Carrier, boot: BootSystem, layout: Layout) -> None:
    """Write into an image what depends on where everything lies."""
    for place, piece in loader_patches(layout, _read(carrier, boot, "mbr.img")):
        file.seek(place)
        file.write(piece)


def find_changed_loaders(carrier: ImageCarrier, boot: BootSystem) -> tuple[str, ...]:
    """What of a disc's loaders is not as its sealed parts make it; by name, empty when all is.

    Raises:
        RepositoryError: the image can't be read.
    """
    missing = tuple(name for name in LOADERS if name not in carrier.files)
    if missing:  # packed by another tool, it doesn't boot; if it does all the same, what it starts is hidden
        starts = carrier.read_at(510, 2) == b"\x55\xaa" or carrier.read_at(17 * SECTOR + 7, 9) == b"EL TORITO"
        return missing if starts else ()
    bios, catalogue = carrier.place("boot/bios.img"), _all(carrier, "boot/boot.cat")
    layout = Layout(
        bios=bios // SECTOR, efi=carrier.place(boot.places["efi.img"]) // SECTOR,
        efi_size=carrier.files[boot.places["efi.img"]], size=0,
    )  # fmt: skip
    sealed, found = _read(carrier, boot, "bios.img"), _all(carrier, "boot/bios.img")
    patches = dict(loader_patches(layout, _read(carrier, boot, "mbr.img")))
    expected = bytearray(sealed)
    expected[_INFO_AT : _INFO_AT + _INFO_SIZE] = _information(layout, sealed)
    expected[_LOADER_AT : _LOADER_AT + 8] = patches[bios + _LOADER_AT]
    start, listed = carrier.read_at(0, 16 * SECTOR), carrier.place("boot/boot.cat") // SECTOR
    record = patches[0]
    faults = {
        "boot/grub/grub.cfg": _all(carrier, "boot/grub/grub.cfg") != write_loader_settings(boot),
        "boot/bios.img": found != bytes(expected),
        "boot/boot.cat": _starts(catalogue) != (layout.bios, EFI_SYSTEM, layout.efi),
        "master boot record": start[:_TABLE_AT] != record[:_TABLE_AT] or _efi_entry(start) != _efi_entry(record),
        "El Torito boot record": carrier.read_at(17 * SECTOR + 71, 4) != struct.pack("<I", listed),
    }  # fmt: skip
    return tuple(name for name, is_wrong in faults.items() if is_wrong)


def _all(carrier: Carrier, name: str) -> bytes:
    with carrier.open(name) as file:
        return file.read()


def _information(layout: Layout, bios: bytes) -> bytes:
    """El Torito's boot information table: the volume's descriptor, the file's place, its size, the sum of its words."""
    words = bios[_INFO_AT + _INFO_SIZE :]
    words += bytes(-len(words) % 4)
    total = sum(struct.unpack(f"<{len(words) // 4}I", words)) & 0xFFFFFFFF
    return struct.pack("<IIII", 16, layout.bios, len(bios), total) + bytes(_INFO_SIZE - 16)


def _starts(catalogue: bytes) -> tuple[int, int, int] | None:
    """What a boot catalogue (El Torito 2.1 to 2.4) starts: BIOS by its sector, another platform, its sector."""
    if len(catalogue) < 128 or (catalogue[32], catalogue[96]) != (0x88, 0x88):
        return None
    (bios,), (other,) = struct.unpack_from("<I", catalogue, 40), struct.unpack_from("<I", catalogue, 104)
    return bios, catalogue[65], other


def _efi_entry(record: bytes) -> bytes:
    return record[_TABLE_AT + _ENTRY.size : _TABLE_AT + 2 * _ENTRY.size]
