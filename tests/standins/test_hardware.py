"""The stand-ins are honest adversaries: they enforce the package's own rules."""

from __future__ import annotations

import pytest

from ordnung.standins import makers as m
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import Hardware
from ordnung.standins.keeping import dump, load
from ordnung.standins.resets import reboot, restart_controller
from ordnung.standins.scenario import demo_hardware, random_hardware


class Time:
    def __init__(self) -> None:
        self.t = 1_000_000.0

    def __call__(self) -> float:
        return self.t


@pytest.fixture
def time():
    return Time()


@pytest.fixture
def device(time) -> Hardware:
    return next(d for d in demo_hardware(time) if d.name == "surge-07")


def send(device, time, make, version, slot, wait=1000.0):
    task = device.open_task([slot], {})
    device.receive_image(task, m.make_package(make, make.made(version)))
    time.t += wait
    device.advance()
    return task


def why(task) -> str:
    return task.messages[-1][1][-1]


def test_a_write_waits_for_its_reset(device, time):
    task = send(device, time, m.RAID_R9, "7.18.0", "raid-1")
    raid = device.part("raid-1")
    assert (task.state, raid.version, raid.waiting) == ("Completed", "7.16.1", "7.18.0")
    restart_controller(device)
    time.t += 500
    device.advance()
    assert raid.waiting == "7.18.0"
    reboot(device)
    time.t += 500
    device.advance()
    assert (raid.version, raid.waiting) == ("7.18.0", None)


def test_writing_takes_time_and_shows_percent(device, time):
    task = send(device, time, m.REED14_BMC, "5.30.0", "bmc", wait=0)
    time.t += 6 + 120
    device.advance()
    assert (task.state, task.percent) == ("Running", 50)


def test_a_bank_keeps_the_old_version(device, time):
    send(device, time, m.REED14_BIOS, "2.4.1", "bios")
    reboot(device)
    time.t += 500
    device.advance()
    assert (device.part("bios").version, device.part("bios").spare) == ("2.4.1", "2.1.0")


@pytest.mark.parametrize(
    ("make", "version", "slot", "told"),
    [
        (m.REED14_BIOS, "3.2.0", "bios", "signature of generation 2"),
        (m.REED12_BIOS, "1.56.0", "bios", "the package is for vendor defined SoftwareId CRV-R12-BIOS"),
        (m.NIC_Q25, "24.2.8", "raid-1", "PCI vendor"),
    ],
)
def test_what_does_not_fit_is_refused(device, time, make, version, slot, told):
    task = send(device, time, make, version, slot)
    assert task.state == "Exception" and told in why(task)
    assert "write begun" not in [e["what"] for e in device.log]


def test_needs_and_floors_are_the_devices_own(device, time):
    bios = device.part("bios")
    bios.version, bios.generation = "2.4.1", 2
    assert "needs Reed 14 controller 5.30.0" in why(send(device, time, m.REED14_BIOS, "3.2.0", "bios"))
    device.part("bmc").version = "5.30.0"
    assert send(device, time, m.REED14_BIOS, "3.2.0", "bios").state == "Completed"
    reboot(device)
    time.t += 500
    device.advance()
    assert "takes nothing below 2.4.1" in why(send(device, time, m.REED14_BIOS, "2.1.0", "bios"))


def test_an_altered_image_is_refused(device, time):
    raw = bytearray(m.make_package(m.RAID_R9, m.RAID_R9.made("7.18.0")))
    raw[-1] ^= 1
    task = device.open_task(["raid-1"], {})
    device.receive_image(task, bytes(raw))
    assert task.state == "Exception" and "checksum" in why(task)


def test_a_reset_during_a_write_leaves_the_component_dead(device, time):
    send(device, time, m.RAID_R9, "7.18.0", "raid-1", wait=10)
    device.advance()
    reboot(device)
    assert device.part("raid-1").dead and device.log[-2]["what"] == "killed a write"


def test_faults_are_used_up(device, time):
    device.faults.append(Fault("image refused", slot="raid-1", times=1))
    assert send(device, time, m.RAID_R9, "7.18.0", "raid-1").state == "Exception"
    assert send(device, time, m.RAID_R9, "7.18.0", "raid-1").state == "Completed"


def test_a_late_version_shows_after_its_time(device, time):
    device.faults.append(Fault("version late", slot="drive-03", seconds=100))
    send(device, time, m.DRIVE_S4, "GX04", "drive-03", wait=52)
    drive = device.part("drive-03")
    assert (drive.version, device.shown_version(drive)) == ("GX04", "GX02")
    time.t += 101
    assert device.shown_version(drive) == "GX04"


def test_the_state_outlives_the_process(device, time):
    send(device, time, m.RAID_R9, "7.18.0", "raid-1")
    again = next(d for d in demo_hardware(time) if d.name == "surge-07")
    load(again, dump(device))
    assert again.part("raid-1").waiting == "7.18.0" and again.log == device.log


def test_a_seed_makes_the_same_fleet(time):
    def told(seed):
        return [(d.name, [p.version for p in d.parts]) for d in random_hardware(50, seed, time)]

    assert told(1) == told(1) != told(2)
