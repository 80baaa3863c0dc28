"""``ordnung host-report`` on a made-up sysfs, and on this very machine."""

from __future__ import annotations

import dataclasses
import datetime
import json
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.components import Component, Server
from ordnung.core.merge import merge_host_report
from ordnung.fieldkit.host import identify
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


# What drives say of themselves


def slots_log(afi: int, *revisions: str) -> bytes:
    """Firmware Slot Information of NVM Express: what is active and what comes, then eight characters a slot."""
    return bytes([afi]).ljust(8, b"\0") + b"".join(r.encode().ljust(8) for r in revisions).ljust(504, b"\0")


@pytest.mark.parametrize(
    ("log", "held", "waiting"),
    [
        (slots_log(0x01, "GX02"), ("GX02",), None),
        (slots_log(0x02, "GX01", "GX02"), ("GX02", "GX01"), None),
        (slots_log(0x31, "GX02", "", "GX03"), ("GX02", "GX03"), "GX03"),
        (slots_log(0x11, "GX02", "GX01"), ("GX02", "GX01"), None),
        (slots_log(0x21, "GX02", "GX02"), ("GX02", "GX02"), None),
        (slots_log(0x41, "GX02"), ("GX02",), None),
        (slots_log(0x01, "GX01"), (), None),
        (slots_log(0x03, "GX02"), (), None),
        (slots_log(0x00, "GX02"), (), None),
        (slots_log(0x01, "\x7f\x01"), (), None),
        (b"\x01", (), None),
        (None, (), None),
    ],
    ids=["one", "second active", "third waits", "the same comes", "another slot, the same", "an empty one comes",
         "contradicts the drive", "active is empty", "none active", "no text", "too short", "not asked"],
)  # fmt: skip
def test_firmware_slots_of_a_drive(log, held, waiting):
    found = identify.read_slots(log, "GX02")
    assert (found.held, found.waiting) == (held, waiting)


def identity(revision: str) -> bytes:
    """The data of IDENTIFY DEVICE with this revision: the two characters of a word change places."""
    raw = bytearray(512)
    text = revision.encode().ljust(8)
    raw[46:54] = bytes(text[at ^ 1] for at in range(8))
    return bytes(raw)


def page_89(revision: str) -> bytes:
    return (b"\x00\x89\x02\x38").ljust(60, b"\0") + identity(revision)


def test_a_sata_drive_is_told_by_its_whole_revision_wherever_that_stands(sysfs):
    disc = sysfs / "class/scsi_device/0:0:0:0/device"
    put(disc, vendor="ATA", model="Brevik K7", rev="A07-")
    (disc / "block/sdq").mkdir(parents=True)

    def revision(ask=lambda name, devices: None):
        drives = look_at_host(NOW, sysfs, lambda _: None, identity=ask).devices
        return next(d.version for d in drives if d.name == "Brevik K7")

    assert revision() == "A07-", "what INQUIRY has room for is better than nothing"
    asked = []
    assert revision(lambda name, devices: asked.append((name, devices)) or identity("A07-0042")) == "A07-0042"
    assert asked == [("sdq", sysfs.parent / "dev")], "the devices of the same system, never of another"
    put(disc, vpd_pg89=page_89("A07-0043"))
    assert revision() == "A07-0043"
    put(disc, vpd_pg89=page_89("A07-0043")[:300])
    assert revision() == "A07-"


def test_a_stick_is_no_part_of_the_server(sysfs):
    stick = sysfs / "devices/pci0000:00/0000:00:14.0/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0"
    put(stick, type="0", vendor="Any", model="Stick", rev="1.00")
    one = sysfs / "class/scsi_device/6:0:0:0"
    one.mkdir(parents=True)
    (one / "device").symlink_to(stick)
    assert "Any Stick" not in {device.name for device in look_at_host(NOW, sysfs, lambda _: None).devices}


def test_slots_of_an_nvme_drive_are_in_the_report_and_laid_over_the_reading(sysfs):
    report = look_at_host(NOW, sysfs, lambda _: None, slots=lambda name, _: slots_log(0x21, "GX02", "GX03"))
    drive = next(d for d in report.devices if d.name == "Brevik S4")
    assert (drive.waiting, drive.banks) == ("GX03", ("GX02", "GX03"))
    again = parse_host_report(write_host_report(report))
    assert again == report
    known = Component(slot="drive-1", kind="drive", name="Brevik S4", version="GX02", serial="BR1", banks=("GX02",))
    merged = merge_host_report(Server(name="s", model="m", components=(known,)), again)
    assert (merged.components[0].waiting, merged.components[0].banks) == ("GX03", ("GX02", "GX03"))
    assert merged.components[0].has_waiting and merged.components[0].origin == "both"
    own = merge_host_report(Server(name="s", model="m", components=()), again)
    assert next(c for c in own.components if c.name == "Brevik S4").banks == ("GX02", "GX03")
    told = dataclasses.replace(known, waiting="GX09", banks=("GX02", "GX09"))
    kept = merge_host_report(Server(name="s", model="m", components=(told,)), again).components[0]
    assert (kept.waiting, kept.banks) == ("GX09", ("GX02", "GX09")), "the controller's word stays"


@given(st.binary(max_size=700), st.text(max_size=8))
def test_whatever_a_drive_answers_is_a_report(raw, version):
    identify.read_slots(raw, version)
    identify.read_revision(identify.identity_of(raw))
    identify.read_revision(raw)


def test_what_is_no_drive_and_what_is_not_there_tell_nothing(tmp_path):
    (tmp_path / "nvme0").write_bytes(b"a file")
    for ask in (identify.ask_slots, identify.ask_identity):
        assert ask("nvme0", tmp_path) is None and ask("gone", tmp_path) is None and ask("null", Path("/dev")) is None
