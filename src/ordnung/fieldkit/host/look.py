"""Gather a host report from sysfs. Whatever can't be read is left out: a report is better than none."""

from __future__ import annotations

import datetime
import re
import socket
from collections.abc import Callable, Iterator
from pathlib import Path

from ordnung.core.merge import HostDevice, HostReport
from ordnung.fieldkit.host.ethtool import read_driver_info
from ordnung.fieldkit.host.identify import ask_identity, ask_slots, identity_of, read_revision, read_slots

_STORAGE = {"0x0104": "raid", "0x0107": "raid"}
"""PCI classes of RAID controllers and SAS adapters, by their first two bytes."""
_USB = re.compile(r"usb\d+")
_NO_SERIAL = ("", "none", "not specified", "default string", "to be filled by o.e.m.", "0", "system serial number")
DriverInfo = Callable[[str], tuple[str, str] | None]
Ask = Callable[[str, Path], bytes | None]
"""What a device answers, by its name and the folder that it is in; None where it can't be asked."""


def look_at_host(
    now: datetime.datetime, root: Path = Path("/sys"), driver_info: DriverInfo = read_driver_info,
    slots: Ask = ask_slots, identity: Ask = ask_identity,
) -> HostReport:  # fmt: skip
    """The report of the machine this runs on.

    Args:
        root: where sysfs is mounted; tests give a copy.
        driver_info: (firmware version, PCI address) of a network interface, or None.
        slots: what an NVMe drive says of its firmware slots; devices are in ``dev`` beside ``root``.
        identity: what an ATA drive says of itself, where sysfs has no page of it.
    """
    beside = root.parent / "dev"
    dmi = root / "class" / "dmi" / "id"
    serial, uuid = _serial(dmi / "product_serial"), _serial(dmi / "product_uuid")
    devices = [
        *_bios(dmi),
        *_nvme(root, beside, slots),
        *_scsi(root, beside, identity),
        *_nics(root, driver_info),
        *_adapters(root),
    ]
    return HostReport(taken_at=now, host=socket.gethostname(), serial=serial, uuid=uuid, devices=tuple(devices))


def own_serial(root: Path = Path("/sys")) -> str:
    """The serial number of the machine this runs on, or its UUID; empty where it tells neither."""
    dmi = root / "class" / "dmi" / "id"
    return _serial(dmi / "product_serial") or _serial(dmi / "product_uuid") or ""


def _text(path: Path) -> str | None:
    try:
        return path.read_text("utf-8", "replace").strip() or None
    except OSError:
        return None


def _serial(path: Path) -> str | None:
    found = _text(path)
    return None if found is None or found.lower() in _NO_SERIAL else found


def _bios(dmi: Path) -> Iterator[HostDevice]:
    version = _text(dmi / "bios_version")
    if version:
        name = " ".join(piece for piece in (_text(dmi / "product_name"), "BIOS") if piece)
        yield HostDevice(kind="bios", name=name, version=version)


def _children(folder: Path) -> list[Path]:
    try:
        return sorted(folder.iterdir())
    except OSError:
        return []


def _nvme(root: Path, beside: Path, ask: Ask) -> Iterator[HostDevice]:
    for one in _children(root / "class" / "nvme"):
        version = _text(one / "firmware_rev")
        slots = read_slots(ask(one.name, beside), version)
        yield HostDevice(
            kind="drive",
            name=_text(one / "model") or one.name,
            version=version,
            serial=_serial(one / "serial"),
            pci=_pci_ids(one / "device"),
            address=_text(one / "address"),
            waiting=slots.waiting,
            banks=slots.held,
        )


def _scsi(root: Path, beside: Path, ask: Ask) -> Iterator[HostDevice]:
    """Discs behind SCSI, SAS or SATA; their serial is in vital product data page 80h (SPC)."""
    for one in _children(root / "class" / "scsi_device"):
        device = one / "device"
        if _text(device / "type") != "0":  # direct access block devices only
            continue
        if any(_USB.fullmatch(part) for part in device.resolve().relative_to(root.resolve()).parts):
            continue  # a stick that somebody left in, or the one that this runs from, is no part of the server
        names = [_text(device / "vendor"), _text(device / "model")]
        yield HostDevice(
            kind="drive",
            name=" ".join(name for name in names if name and name != "ATA") or one.name,
            version=_ata_revision(device, beside, ask) or _text(device / "rev"),
            serial=_page_80(device / "vpd_pg80"),
        )


def _ata_revision(device: Path, beside: Path, ask: Ask) -> str | None:
    """The whole revision of a SATA drive: ``rev`` has four of its eight characters. None for any other drive."""
    found = read_revision(identity_of(_bytes(device / "vpd_pg89")))
    if found is not None or _text(device / "vendor") != "ATA":
        return found
    return next((v for block in _children(device / "block") if (v := read_revision(ask(block.name, beside)))), None)


def _bytes(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError:
        return b""


def _page_80(path: Path) -> str | None:
    raw = _bytes(path)
    size = int.from_bytes(raw[2:4], "big") if len(raw) >= 4 else 0
    text = raw[4 : 4 + size].decode("ascii", "replace").strip("\0 ")
    return text or None


def _nics(root: Path, driver_info: DriverInfo) -> Iterator[HostDevice]:
    """Network cards; the ports of one card, which share slot and device, are one component."""
    seen: set[str] = set()
    for one in _children(root / "class" / "net"):
        device = one / "device"
        ids = _pci_ids(device)
        if ids is None:
            continue  # bridges, tunnels, virtual links
        driver = driver_info(one.name)
        address = driver[1] if driver and driver[1] else device.resolve().name
        card = address.rpartition(".")[0] or address
        if card in seen:
            continue
        seen.add(card)
        version = driver[0] if driver else None
        yield HostDevice(kind="nic", name=f"Network card {ids[:9]}", version=version or None, pci=ids, address=address)


def _adapters(root: Path) -> Iterator[HostDevice]:
    """RAID and host adapters; sysfs knows their identity, not always their firmware."""
    for device in _children(root / "bus" / "pci" / "devices"):
        kind = _STORAGE.get((_text(device / "class") or "")[:6])
        ids = _pci_ids(device)
        if kind is None or ids is None:
            continue
        version = next((v for host in device.glob("host*/scsi_host/host*") if (v := _firmware(host))), None)
        yield HostDevice(kind=kind, name=f"Storage adapter {ids[:9]}", version=version, pci=ids, address=device.name)


def _firmware(host: Path) -> str | None:
    return next((v for name in ("version_fw", "fw_version", "firmware_revision") if (v := _text(host / name))), None)


def _pci_ids(device: Path) -> str | None:
    names = ("vendor", "device", "subsystem_vendor", "subsystem_device")
    pieces = [(_text(device / name) or "").removeprefix("0x").lower() for name in names]
    return ":".join(pieces) if all(len(piece) == 4 for piece in pieces) else None
