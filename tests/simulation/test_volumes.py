"""Drives are written one after the other, and none while another is gone from its volume."""

from __future__ import annotations

import pytest

from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from tests.simulation.invariants import check_volumes
from tests.simulation.one_server import check_device, with_manners

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
    check_volumes(device)
    check_device(house, NAME)


async def test_one_that_does_not_become_whole_stops_its_server_with_the_others_unwritten(house):
    outcome, device = await with_manners(house, NAME, faults=[Fault("drive drops out", seconds=9e9)])
    assert outcome.ended == "failed" and "Wait until the array is whole" in outcome.reason
    assert len(drives_written(device)) == 1
    assert not [entry for entry in device.log if entry["what"] == "reset" and entry["kind"] == "server reboot"]
    check_device(house, NAME)
