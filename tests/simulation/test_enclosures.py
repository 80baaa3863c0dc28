"""Two systems behind one controller: each goes level by itself, and neither harms the other."""

from __future__ import annotations

import itertools

import pytest

from ordnung.engine.run import carry_out_run
from ordnung.engine.world import Patience
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import make_enclosures
from tests.simulation.clock import VirtualClock
from tests.simulation.world import Crashed, House


@pytest.fixture
def house(mirror_folder) -> House:
    clock = VirtualClock()
    found = House(clock, make_enclosures(1, 7, clock.seconds), mirror_folder)
    found.patience = Patience(poll_s=40.0)
    return found


def slots_of(house: House, name: str) -> set[str]:
    return {component.slot for component in house.journal.states["1", name].before.components}


async def test_each_is_read_as_itself_and_both_show_the_controller_they_share(house):
    await carry_out_run("1", [house.lane(name) for name in house.devices], house.world())
    first, second = house.devices
    assert "bios" in slots_of(house, first) and "b-bios" in slots_of(house, second)
    assert slots_of(house, first) & slots_of(house, second) == {"bmc"}
    readings = [house.journal.states["1", name].before for name in house.devices]
    assert [r.serial for r in readings] == [d.serial for d in house.devices.values()]


@pytest.mark.exhaustive
@pytest.mark.parametrize("ways", [("HTTPS", "HTTP"), ()], ids=["pulled", "pushed"])
async def test_both_go_level_in_one_run_without_a_second_write_or_a_reset_meanwhile(house, ways):
    house.protocols = ways
    await carry_out_run("1", [house.lane(name) for name in house.devices], house.world())
    assert {str(state.ended.ending) for state in house.journal.states.values()} == {"level"}
    moments = sorted(
        (entry["at"], entry["what"], name)
        for name, device in house.devices.items()
        for entry in device.log
        if entry["what"] in ("write begun", "write done")
    )
    for (_, one, _), (_, two, _) in itertools.pairwise(moments):
        assert one != two, "their controller wrote twice at once"
    for device in house.devices.values():
        assert "killed a write" not in [entry["what"] for entry in device.log]
        assert len(writes_of(device.log)) == len(set(writes_of(device.log)))
        moving = [part for part in device.parts if part.kind != "power"]
        assert {part.slot: part.version for part in moving} == {part.slot: part.listed[-1] for part in moving}
    controller = [slot for device in house.devices.values() for slot, _ in writes_of(device.log) if slot == "bmc"]
    assert len(controller) <= 1, "the controller they share is written once"


async def dies(house: House, names: list[str]) -> bool:
    try:
        await carry_out_run("1", [house.lane(name) for name in names], house.world())
    except BaseExceptionGroup as deaths:
        return deaths.split(Crashed)[1] is None
    return False


@pytest.mark.exhaustive
@pytest.mark.parametrize("at", [10, 24, 38, 52])
async def test_a_crash_at_any_point_loses_and_doubles_nothing_on_either(house, at):
    house.journal.crash_after = at
    names = list(house.devices)
    if await dies(house, names):
        house.clock.t += 30
        house.born()
        left = [n for n in names if (s := house.journal.states.get(("1", n))) is None or s.ended is None]
        await carry_out_run("1", [house.lane(name) for name in left], house.world())
    assert {str(state.ended.ending) for state in house.journal.states.values()} == {"level"}
    for device in house.devices.values():
        writes = writes_of(device.log)
        assert len(writes) == len(set(writes)) and "killed a write" not in [e["what"] for e in device.log]
