"""A server that is plugged into an enclosure with others: nothing that a run does is done to those."""

from __future__ import annotations

import pytest

from ordnung.standins.hardware import writes_of
from tests.simulation.invariants import AROUND
from tests.simulation.one_server import THREE, check_device, resets, with_manners


def done_around(device) -> list[str]:
    return [entry["what"] for entry in device.log if entry["what"] in AROUND]


@pytest.mark.parametrize(("name", "usual"), [("surge-07", THREE), ("vault-01", ["power cycle"])])
@pytest.mark.parametrize("more", [(), ("no reset time",), ("old shapes",), ("action info",)], ids=" and ".join)
async def test_only_the_server_itself_is_reset_and_its_own_controller(house, name, usual, more):
    """The whole enclosure was power-cycled, with all servers in it, and its manager restarted for the controller's."""
    outcome, device = await with_manners(house, name, "in an enclosure", *more)
    assert (outcome.ended, resets(device), done_around(device)) == ("level", usual, []), outcome.reason
    check_device(house, name)


async def test_one_that_can_only_be_cycled_with_its_neighbours_is_left_alone(house):
    """It was written first, and waited for a reset that nobody could ask its controller for."""
    outcome, device = await with_manners(house, "vault-01", "cycled together")
    assert outcome.ended == "failed"
    assert "it offers no power cycle of this server alone: what it offers is for the whole enclosure" in outcome.reason
    assert (writes_of(device.log), resets(device), done_around(device)) == ([], [], [])


@pytest.mark.parametrize("manner", ["in an enclosure", "cycled together"])
async def test_what_an_enclosure_holds_for_all_is_shown_and_never_written(house, manner):
    supplies = {part.slot for part in house.devices["surge-07"].parts if part.kind == "power"}
    outcome, device = await with_manners(house, "surge-07", manner)
    shown = {part.slot for part in outcome.state.latest.components if part.shared}
    assert supplies and shown == supplies
    assert not supplies & {slot for slot, _ in writes_of(device.log)}
