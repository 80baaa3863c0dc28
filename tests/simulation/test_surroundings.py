"""The check after, in a run: what is otherwise around the firmware is found, what comes late or is announced is not."""

from __future__ import annotations

import pytest

from ordnung.standins.faults import Fault
from tests.simulation.one_server import carry_out
from tests.simulation.world import House, demo_house


@pytest.fixture
def house(mirror_folder) -> House:
    return demo_house(mirror_folder)


CHANGED = [
    ("link stays down", "nic-1 port 1 has no link any more"),
    ("boot order changed", "it started from Volume 1, then Network, port 1, then Virtual disc; now from Virtual disc"),
    ("settings lost", "the setting PowerProfile was Throughput and is Balanced"),
    ("volume degraded", "Volume 1 was OK and is Degraded"),
]


@pytest.mark.exhaustive
@pytest.mark.parametrize(("kind", "told"), CHANGED, ids=[kind for kind, _ in CHANGED])
async def test_what_is_otherwise_around_the_firmware_is_found_by_the_check_after(house, kind, told):
    house.devices["surge-03"].faults.append(Fault(kind))
    state = await carry_out(house, "surge-03")
    assert state.ended == "failed" and told in state.reason
    assert any("waiting for it to settle" in detail for _, _, detail in house.told)


async def test_a_link_that_comes_up_late_is_waited_for(house):
    house.devices["surge-03"].faults.append(Fault("link stays down", seconds=120))
    state = await carry_out(house, "surge-03")
    assert state.ended == "level", state.reason
    assert any("waiting for it to settle: nic-1 port 1 has no link" in detail for _, _, detail in house.told)


async def test_what_a_release_announces_is_no_surprise(house):
    state = await carry_out(house, "vault-01")
    settings = house.devices["vault-01"].surroundings.settings
    assert state.ended == "level" and settings["MemoryInterleave"] == "Adaptive", state.reason
