"""Gather a host report from sysfs. Whatever can't be read is left out: a report is better than none."""

from __future__ import annotations

import datetime
import socket
from collections.abc import Callable, Iterator
from pathlib import Path

from ordnung.core.merge import HostDevice, HostReport
from ordnung.fieldkit.host.ethtool import read_driver_info

_STORAGE = {"0x0104": "raid", "0x0107": "raid"}
"""PCI classes of RAID controllers and SAS adapters, by their first two bytes."""
_NO_SERIAL = ("", "none", "not specified", "default string", "to be filled by o.e.m.", "0", "system serial number")
DriverInfo = Callable[[str], tuple[str, str] | None]


def look_at_host(
    now: datetime.datetime, root: Path = Path("/sys"), driver_info: DriverInfo = read_driver_info
) -> HostReport:
    """The report of the machine this runs on.

    Args:
        root: where sysfs is mounted; tests give a copy.
        driver_info: (firmware version, PCI address) of a network interface, or None.
    """
    dmi = root / "class" / "dmi" / "id"
    serial, uuid = _serial(dmi / "product_serial"), _serial(dmi / "product_uuid")
    devices = [*_bios(dmi), *_nvme(root), *_scsi(root), *_nics(root, driver_info), *_adapters(root)]
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


def _nvme(root: Path) -> Iterator[HostDevice]:
    for one in _children(root / "class" / "nvme"):
        version = _text(one / "firmware_rev")
        yield HostDevice(
            kind="drive",
            name=_text(one / "model") or one.name,
            version=version,
            serial=_serial(one / "serial"),
            pci=_pci_ids(one / "device"),
            address=_text(one / "address"),
        )


def _scsi(root: Path) -> Iterator[HostDevice]:
    """Discs behind SCSI, SAS or SATA; their serial is in vital product data page 80h (SPC)."""
    for one in _children(root / "class" / "scsi_device"):
        device = one / "device"
        if _text(device / "type") != "0":  # direct access block devices only
            continue
        names = [_text(device / "vendor"), _text(device / "model")]
        yield HostDevice(
            kind="drive",
            name=" ".join(name for name in names if name and name != "ATA") or one.name,
            version=_text(device / "rev"),
            serial=_page_80(device / "vpd_pg80"),
        )


def _page_80(path: Path) -> str | None:
    try:
        raw = path.read_bytes()
    except OSError:
        return None
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
