"""Where the journal outlasts a reset: a partition of the stick's own, behind the image that it was started from.

Only ever the very stick that this runs from, and only if it is attached by USB: a server's drives are not touched.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

SECTOR = 512
ALIGNED = 2048
"""Sectors to which the partition's begin is rounded up: 1 MiB."""
LEAST, MOST = 64 * 2**20 // SECTOR, 4 * 2**30 // SECTOR
FAT32 = 0x0C
_ENTRY = struct.Struct("<B3sB3sII")
_THIRD = 446 + 2 * _ENTRY.size
_NO_CYLINDERS = b"\xfe\xff\xff"

Run = Callable[[Sequence[str]], bool]
"""Runs a program of the system; whether it went well."""


@dataclass(frozen=True, slots=True)
class Kept:
    """A folder, and why it does not outlast a reset; empty when it does."""

    folder: Path
    why_not: str = ""


def keep(device: Path, folder: Path, run: Run, sysfs: Path = Path("/sys")) -> Kept:
    """Mount the stick's own partition at ``folder``, making it where there is none.

    Args:
        device: what this system was started from.
        folder: where it is mounted; where nothing can be kept it is a folder in memory.
        run: carries out ``losetup``, ``mkdosfs`` and ``mount``.
    """
    folder.mkdir(parents=True, exist_ok=True)
    why_not = _find_reason(device, sysfs)
    if why_not:
        return Kept(folder, why_not)
    try:
        begin, count, is_new = _partition(device, _size(device, sysfs))
    except OSError as error:
        return Kept(folder, f"the stick can't be written to ({error.strerror})")
    if count < LEAST:
        return Kept(
            folder, f"there is no room for a journal behind the image: {LEAST * SECTOR // 2**20} MiB are needed"
        )
    loop = "/dev/loop7"
    if not run(["losetup", "-o", str(begin * SECTOR), loop, str(device)]):
        return Kept(folder, "the stick can't be written to")
    mount = ["mount", "-t", "vfat", "-o", "sync,umask=077", loop, str(folder)]
    made = is_new and run(["mkdosfs", "-n", "ORDNUNG-LOG", loop, str(count // 2)])
    if not (run(mount) or (not made and run(["mkdosfs", "-n", "ORDNUNG-LOG", loop, str(count // 2)]) and run(mount))):
        return Kept(folder, "the stick's own partition can't be used")
    return Kept(folder)


def _find_reason(device: Path, sysfs: Path) -> str:
    block = (sysfs / "class" / "block" / device.name).resolve()
    if device.name.startswith("sr"):
        return "a disc can't be written to"
    if "/usb" not in str(block):
        return "this was not started from a stick"
    if (block / "partition").exists():
        return "the image lies in a partition of the stick, not on the stick itself"
    read_only = block / "ro"
    return "the stick is write-protected" if read_only.exists() and read_only.read_text().strip() != "0" else ""


def _size(device: Path, sysfs: Path) -> int:
    return int((sysfs / "class" / "block" / device.name / "size").read_text())


def _partition(device: Path, sectors: int) -> tuple[int, int, bool]:
    """(first sector, sectors, whether it was entered just now) of the third partition of the stick."""
    place = os.open(device, os.O_RDWR | os.O_SYNC)
    try:
        record = bytearray(os.pread(place, SECTOR, 0))
        _, _, _, _, start, count = _ENTRY.unpack_from(record, 446)
        behind = start + count
        _, _, kind, _, begin, size = _ENTRY.unpack_from(record, _THIRD)
        if kind == FAT32 and begin >= behind and size >= LEAST and begin + size <= sectors:
            return begin, size, False
        begin = -(-behind // ALIGNED) * ALIGNED
        size = min(sectors - begin, MOST)
        if size >= LEAST:
            _ENTRY.pack_into(record, _THIRD, 0, _NO_CYLINDERS, FAT32, _NO_CYLINDERS, begin, size)
            os.pwrite(place, bytes(record), 0)
        return begin, size, True
    finally:
        os.close(place)
