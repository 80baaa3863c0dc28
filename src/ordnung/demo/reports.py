"""Host reports to try: what ``ordnung host-report`` would write inside a server that hides a card."""

from __future__ import annotations

import datetime
from pathlib import Path

from ordnung.core.merge import HostDevice, HostReport
from ordnung.formats.host_report import write_host_report
from ordnung.standins.scenario import PLACES, demo_hardware

_SEEN = ("bios", "drive", "nic", "raid")
"""What a server's own system sees of itself."""


def write_reports(folder: Path, now: datetime.datetime) -> list[Path]:
    """Write a report for every server of the scenario that hides something; returns the files."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = []
    for device in demo_hardware(now.timestamp, [place for place in PLACES if place.hidden]):
        devices = tuple(
            HostDevice(
                kind=part.kind,
                name=part.name,
                version=part.version,
                serial=None if part.kind == "bios" else part.serial,
                pci=part.pci,
                address=f"0000:{number:02x}:00.0" if part.pci else None,
            )
            for number, part in enumerate(device.parts, start=16)
            if part.kind in _SEEN
        )
        report = HostReport(taken_at=now, host=device.name, serial=device.serial, uuid=device.uuid, devices=devices)
        path = folder / f"{device.name}.json"
        path.write_bytes(write_host_report(report))
        paths.append(path)
    return paths
