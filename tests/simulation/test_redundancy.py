"""What stands in for each other is written one after the other, and none while another is away."""

from __future__ import annotations

import pytest

from ordnung.core.rules import FIXED_RULES
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.invariants import check_redundancy
from tests.simulation.one_server import check_device, with_manners
from tests.simulation.world import House, VirtualClock

NAME = "surge-07"


def drives_written(device) -> list[str]:
    drives = {part.slot for part in device.parts if part.kind == "drive"}
    return [slot for slot, _ in writes_of(device.log) if slot in drives]


@pytest.mark.parametrize("seconds", [30.0, 900.0])
async def test_a_volume_that_lacks_the_last_drive_for_a_while_is_waited_for(house, seconds):
    """The next drive was written all the same: with two gone, the data was."""
    faults = [Fault("drive drops out", times=2, seconds=seconds)]
    outcome, device = await with_manners(house, NAME, faults=faults)
    assert outcome.ended == "level", outcome.reason
    assert [entry["what"] for entry in device.log].count("drive dropped out") == 2
    check_redundancy(device)
    check_device(house, NAME)


async def test_one_that_does_not_become_whole_stops_its_server_with_the_others_unwritten(house):
    outcome, device = await with_manners(house, NAME, faults=[Fault("drive drops out", seconds=9e9)])
    assert outcome.ended == "failed" and "Wait until the array is whole" in outcome.reason
    assert len(drives_written(device)) == 1
    assert not [entry for entry in device.log if entry["what"] == "reset" and entry["kind"] == "server reboot"]
    check_device(house, NAME)


def old_supplies(mirror_folder):
    """A server whose power supplies are behind."""
    clock = VirtualClock()
    devices = demo_hardware(clock.seconds, [place for place in PLACES if place.name == "surge-05"])
    for part in devices[0].parts:
        if part.kind == "power":
            part.version = "1.07"
    house = House(clock, devices, mirror_folder)
    house.rules = FIXED_RULES[1:]  # supplies are not held
    return house


@pytest.mark.parametrize("seconds", [0.0, 600.0])
async def test_the_second_supply_is_written_once_the_first_carries_the_server_again(mirror_folder, seconds):
    """By its new release the first counted as unlike, and the second was never written."""
    house = old_supplies(mirror_folder)
    faults = [Fault("supply starts late", seconds=seconds)] if seconds else []
    outcome, device = await with_manners(house, "surge-05", "supplies at once", faults=faults)
    assert outcome.ended == "level", outcome.reason
    assert {part.version for part in device.parts if part.kind == "power"} == {"1.09"}
    check_redundancy(device)
    check_device(house, "surge-05")


async def test_where_the_first_carries_nothing_any_more_the_second_is_left_alone(mirror_folder):
    house = old_supplies(mirror_folder)
    faults = [Fault("supply starts late", seconds=9e9)]
    outcome, device = await with_manners(house, "surge-05", "supplies at once", faults=faults)
    assert outcome.ended == "failed" and "the health of psu-1 is Warning" in outcome.reason
    assert [slot for slot, _ in writes_of(device.log) if slot.startswith("psu")] == ["psu-1"]
