"""``ordnung host-report`` on a made-up sysfs, and on this very machine."""

from __future__ import annotations

import datetime
import json
from pathlib import Path

import pytest
from click.testing import CliRunner

from ordnung.fieldkit.host.ethtool import read_driver_info
from ordnung.fieldkit.host.look import look_at_host
from ordnung.fieldkit.main import cli
from ordnung.formats.host_report import parse_host_report, write_host_report

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
PCI = {"vendor": "0xffe3", "device": "0x0025", "subsystem_vendor": "0xffe3", "subsystem_device": "0x0002"}


def put(folder: Path, **files) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    for name, content in files.items():
        (folder / name).write_bytes(content if isinstance(content, bytes) else f"{content}\n".encode())
    return folder


@pytest.fixture
def sysfs(tmp_path):
    """A server with two ports of one card, a card of another maker, an NVMe drive, a SAS disc, a RAID controller."""
    root = tmp_path / "sys"
    put(root / "class/dmi/id", product_serial="CRV14-0007", product_uuid="AB-CD", product_name="Reed 14", bios_version="2.1.0")  # fmt: skip
    for number, (address, ids) in enumerate(
        [("0000:3b:00.0", PCI), ("0000:3b:00.1", PCI), ("0000:5e:00.0", {**PCI, "vendor": "0xffe9"})]
    ):
        device = put(root / "bus/pci/devices" / address, **ids)
        put(device, **{"class": "0x020000"})
        port = root / "class/net" / f"eth{number}"
        port.mkdir(parents=True)
        (port / "device").symlink_to(device)
    (root / "class/net/bridge0").mkdir()
    drive = put(
        root / "class/nvme/nvme0", model="Brevik S4  ", serial=" BR1 ", firmware_rev="GX02", address="0000:01:00.0"
    )
    put(drive / "device", **{**PCI, "vendor": "0xffe4"})
    disc = root / "class/scsi_device/0:0:0:0/device"
    put(disc, type="0", vendor="BREVIK", model="K7", rev="A07", vpd_pg80=b"\x00\x80\x00\x04SN42")
    put(root / "class/scsi_device/0:0:9:0/device", type="13", vendor="x", model="enclosure", rev="1")
    put(root / "bus/pci/devices/0000:af:00.0", **{**PCI, "class": "0x010400", "vendor": "0xffe2"})
    put(root / "bus/pci/devices/0000:af:00.0/host0/scsi_host/host0", version_fw="7.16.1")
    return root


def test_everything_a_system_knows_is_told(sysfs):
    versions = {"eth0": ("24.1.3", "0000:3b:00.0"), "eth1": ("24.1.3", "0000:3b:00.1"), "eth2": ("", "")}
    report = look_at_host(NOW, sysfs, versions.get)
    assert (report.serial, report.uuid, report.taken_at) == ("CRV14-0007", "AB-CD", NOW)
    told = [(d.kind, d.name, d.version, d.serial, d.address) for d in report.devices]
    assert told == [
        ("bios", "Reed 14 BIOS", "2.1.0", None, None),
        ("drive", "Brevik S4", "GX02", "BR1", "0000:01:00.0"),
        ("drive", "BREVIK K7", "A07", "SN42", None),
        ("nic", "Network card ffe3:0025", "24.1.3", None, "0000:3b:00.0"),
        ("nic", "Network card ffe9:0025", None, None, "0000:5e:00.0"),
        ("raid", "Storage adapter ffe2:0025", "7.16.1", None, "0000:af:00.0"),
    ]
    assert report.devices[3].pci == "ffe3:0025:ffe3:0002"
    assert parse_host_report(write_host_report(report)) == report


@pytest.mark.parametrize("serial", ["To be filled by O.E.M.", "None", "  ", "Not Specified"])
def test_a_serial_that_is_none_is_not_told(sysfs, serial):
    put(sysfs / "class/dmi/id", product_serial=serial)
    assert look_at_host(NOW, sysfs, lambda _: None).serial is None


@pytest.mark.parametrize("page", [b"", b"\x00\x80", b"\x00\x80\xff\xff", b"\x00\x80\x00\x00SN42"])
def test_a_broken_page_of_vital_data_is_no_serial(sysfs, page):
    put(sysfs / "class/scsi_device/0:0:0:0/device", vpd_pg80=page)
    disc = next(d for d in look_at_host(NOW, sysfs, lambda _: None).devices if d.name == "BREVIK K7")
    assert disc.serial is None


def test_an_empty_system_gives_an_empty_report(tmp_path):
    report = look_at_host(NOW, tmp_path, lambda _: None)
    assert report.devices == () and report.serial is None


def test_the_command_writes_a_file_and_says_when_nobody_can_be_told(sysfs, tmp_path):
    out = tmp_path / "report.json"
    done = CliRunner().invoke(cli, ["host-report", "--sysfs", str(sysfs), "-o", str(out), "--json"])
    assert done.exit_code == 0 and json.loads(done.stdout)["system"]["serial"] == "CRV14-0007"
    assert parse_host_report(out.read_bytes()).uuid == "AB-CD"
    (sysfs / "class/dmi/id/product_serial").unlink()
    (sysfs / "class/dmi/id/product_uuid").unlink()
    done = CliRunner().invoke(cli, ["host-report", "--sysfs", str(sysfs)], standalone_mode=False)
    assert done.return_value == 1 and "neither serial nor UUID" in done.stderr and "BREVIK K7" in done.stdout


def test_it_works_on_this_very_machine():
    report = look_at_host(NOW)
    assert report.host and all(d.name for d in report.devices)
    assert read_driver_info("lo") is None or isinstance(read_driver_info("lo"), tuple)
    assert read_driver_info("no-such-interface") is None
