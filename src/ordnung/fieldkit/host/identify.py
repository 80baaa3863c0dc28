"""What drives say of themselves beyond sysfs: which firmware an NVMe drive holds in its slots, and the whole revision
of a SATA drive. Nothing is written: both are commands that only read.
"""

from __future__ import annotations

import ctypes
import fcntl
import os
from dataclasses import dataclass
from pathlib import Path

NVME_ADMIN = 3 << 30 | 72 << 16 | ord("N") << 8 | 0x41
"""NVME_IOCTL_ADMIN_CMD (linux/nvme_ioctl.h): _IOWR of 72 bytes."""
GET_LOG_PAGE, FIRMWARE_SLOTS, ALL_NAMESPACES = 0x02, 0x03, 0xFFFFFFFF
LOG_BYTES, SLOTS, REVISION = 512, 7, 8
GET_IDENTITY, IDENTITY_BYTES = 0x030D, 512
"""HDIO_GET_IDENTITY (linux/hdreg.h): the data of IDENTIFY DEVICE (ACS)."""
PAGE_89, IDENTITY_AT = 0x89, 60
"""ATA Information, a page of vital product data (SAT): it holds the data of IDENTIFY DEVICE."""
REVISION_WORDS = slice(46, 54)
"""Words 23 to 26 of IDENTIFY DEVICE."""


class _Command(ctypes.Structure):
    """struct nvme_passthru_cmd."""

    _fields_ = [
        ("opcode", ctypes.c_ubyte), ("flags", ctypes.c_ubyte), ("reserved", ctypes.c_ushort),
        ("namespace", ctypes.c_uint), ("cdw2", ctypes.c_uint), ("cdw3", ctypes.c_uint),
        ("metadata", ctypes.c_ulonglong), ("address", ctypes.c_ulonglong), ("metadata_size", ctypes.c_uint),
        ("size", ctypes.c_uint), ("cdw10", ctypes.c_uint), ("more", ctypes.c_uint * 5),
        ("timeout_ms", ctypes.c_uint), ("result", ctypes.c_uint),
    ]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Slots:
    """The firmware slots of an NVMe drive: what each holds, the active one first, and what the next reset activates."""

    held: tuple[str, ...] = ()
    waiting: str | None = None


def ask_slots(name: str, devices: Path) -> bytes | None:
    """The Firmware Slot Information log of an NVMe drive (``nvme0``); None where it can't be asked."""
    answer = ctypes.create_string_buffer(LOG_BYTES)
    command = _Command(
        opcode=GET_LOG_PAGE, namespace=ALL_NAMESPACES, address=ctypes.addressof(answer), size=LOG_BYTES,
        cdw10=FIRMWARE_SLOTS | (LOG_BYTES // 4 - 1) << 16, timeout_ms=5000,
    )  # fmt: skip
    try:
        place = os.open(devices / name, os.O_RDONLY | os.O_CLOEXEC)
        try:
            done = fcntl.ioctl(place, NVME_ADMIN, command)
        finally:
            os.close(place)
    except OSError:
        return None
    return answer.raw if done == 0 else None


def read_slots(log: bytes | None, version: str | None) -> Slots:
    """What that log says (NVM Express, "Firmware Slot Information").

    Nothing of one that makes no sense, or contradicts the ``version`` that the drive says it runs.
    """
    if log is None or len(log) < REVISION * (SLOTS + 1):
        return Slots()
    active, coming = log[0] & 0x07, log[0] >> 4 & 0x07
    held = {n: text for n in range(1, SLOTS + 1) if (text := _text(log[REVISION * n : REVISION * (n + 1)]))}
    if active not in held or held[active] != version:
        return Slots()
    others = tuple(text for n, text in held.items() if n != active)
    waiting = held.get(coming) if coming != active else None
    return Slots((held[active], *others), waiting if waiting != held[active] else None)


def ask_identity(name: str, devices: Path) -> bytes | None:
    """The data of IDENTIFY DEVICE of a block device (``sda``); None where it can't be asked, or is no ATA drive."""
    answer = bytearray(IDENTITY_BYTES)
    try:
        place = os.open(devices / name, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            fcntl.ioctl(place, GET_IDENTITY, answer)
        finally:
            os.close(place)
    except OSError:
        return None
    return bytes(answer)


def identity_of(page: bytes) -> bytes | None:
    """The data of IDENTIFY DEVICE in the page 89h that sysfs shows; None where it is not there."""
    if len(page) < IDENTITY_AT + IDENTITY_BYTES or page[1] != PAGE_89:
        return None
    return page[IDENTITY_AT : IDENTITY_AT + IDENTITY_BYTES]


def read_revision(identity: bytes | None) -> str | None:
    """The firmware revision of an ATA drive: eight characters, two in each word, the second one first.

    What SCSI says of such a drive (INQUIRY) has room for four of them only.
    """
    if identity is None or len(identity) < REVISION_WORDS.stop:
        return None
    raw = identity[REVISION_WORDS]
    return _text(bytes(raw[at ^ 1] for at in range(len(raw))))


def _text(raw: bytes) -> str | None:
    text = raw.partition(b"\0")[0].decode("ascii", "replace").strip()
    return text if text and text.isprintable() and "�" not in text else None
