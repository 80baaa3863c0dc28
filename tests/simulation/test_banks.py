"""Going back by the other bank (N7.4): nothing is sent, the reset is one, and dying on the way doubles nothing."""

from __future__ import annotations

import pytest

from ordnung.engine.direct_steps import SWITCH
from ordnung.engine.entries import WriteIntent
from ordnung.engine.world import Patience
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.deaths import deaths
from tests.simulation.one_server import carry_out
from tests.simulation.world import House, VirtualClock

ONE = "surge-05"


def make(mirror) -> House:
    clock = VirtualClock()
    place = next(place for place in PLACES if place.name == ONE)
    made = House(clock, demo_hardware(clock.seconds, [place]), mirror)
    made.patience = Patience(poll_s=40.0)
    return made


@pytest.fixture
def house(mirror_folder) -> House:
    return make(mirror_folder)


async def bring_level(house) -> tuple[str, str]:
    """Level first; the version its BIOS ran before, which its other bank holds now, and the one it runs."""
    before = house.devices[ONE].part("bios").version
    state = await carry_out(house, ONE)
    assert state.ended == "level", state.reason
    part = house.devices[ONE].part("bios")
    assert part.spare == before != part.version
    house.devices[ONE].log.clear()
    return before, part.version


def of(house, run, kind):
    return [entry.value for entry in house.journal.tapes[run, ONE] if isinstance(entry.value, kind)]


@pytest.mark.parametrize("manners", [(), ("versions in ids",), ("two images",)], ids=str)
async def test_a_component_goes_back_by_its_other_bank_and_nothing_is_written(house, manners):
    house.devices[ONE].quirks |= set(manners)
    before, after = await bring_level(house)
    state = await carry_out(house, ONE, run="2", back={"bios": before})
    assert state.ended == "put back", state.reason
    part, log = house.devices[ONE].part("bios"), house.devices[ONE].log
    assert (part.version, part.spare) == (before, after) and writes_of(log) == []
    assert [e["what"] for e in log if e["what"] in ("bank chosen", "reset", "activated")] == [
        "bank chosen", "reset", "activated",
    ]  # fmt: skip
    (intent,) = of(house, "2", WriteIntent)
    assert intent.way == SWITCH and intent.planned.bank and intent.planned.payload is None


async def test_and_forward_again_by_a_way_back_of_the_way_back(house):
    before, after = await bring_level(house)
    await carry_out(house, ONE, run="2", back={"bios": before})
    state = await carry_out(house, ONE, run="3")
    assert state.ended == "level" and house.devices[ONE].part("bios").version == after
    assert writes_of(house.devices[ONE].log) == [("bios", after)], "what brings it level is written, never switched to"


async def test_a_bank_that_holds_something_else_by_now_is_not_switched_to(house):
    before, _ = await bring_level(house)

    def meddle(server, state, detail):
        if "its bank with" in detail:
            house.devices[ONE].part("bios").spare = "1.0.0"

    house.listeners.append(meddle)
    state = await carry_out(house, ONE, run="2", back={"bios": before})
    assert state.ended == "failed" and f"none of its banks holds {before} any more" in state.reason
    assert not [e for e in house.devices[ONE].log if e["what"] in ("bank chosen", "reset")]


async def test_one_that_may_not_go_back_refuses_and_is_left_as_it_is(house):
    before, after = await bring_level(house)
    house.devices[ONE].part("bios").floor = after
    state = await carry_out(house, ONE, run="2", back={"bios": before})
    assert state.ended == "failed" and house.devices[ONE].part("bios").version == after
    assert not [e for e in house.devices[ONE].log if e["what"] == "reset" and e["kind"] != "controller restart"]


async def test_the_checks_are_asked_before_it(house):
    before, _ = await bring_level(house)
    house.devices[ONE].faults.append(Fault("feed lost"))
    state = await carry_out(house, ONE, run="2", back={"bios": before})
    assert state.ended in ("failed", "stopped") and "has no input" in state.reason
    assert not [e for e in house.devices[ONE].log if e["what"] == "bank chosen"]


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_dying_at_any_moment_of_it_loses_and_doubles_nothing(mirror_folder, when):
    steady = make(mirror_folder)
    before, _ = await bring_level(steady)

    async def put_back(house):
        return await carry_out(house, ONE, run="2", back={"bios": before})

    for position, trial in await deaths(steady, when, put_back):
        state = await put_back(trial)
        assert state.ended == "put back", (position, state.reason)
        log = trial.devices[ONE].log
        assert trial.devices[ONE].part("bios").version == before and writes_of(log) == []
        assert len([e for e in log if e["what"] == "reset"]) == 1, position
