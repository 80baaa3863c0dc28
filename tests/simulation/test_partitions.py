"""Service partitions of a server's own flash store (N4.8): set up anew, filled, and nothing else is ever touched."""

from __future__ import annotations

import pytest

from ordnung.core.sheet import SET_UP
from ordnung.engine.entries import Evidence, Warned, WriteDone, WriteIntent, WriteSent
from ordnung.engine.world import Patience
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.deaths import deaths
from tests.simulation.one_server import carry_out
from tests.simulation.world import House, VirtualClock

OLD, BLANK, DAMAGED = "watch-03", "watch-05", "watch-07"
STORE = ("store-diag", "store-drivers", "store-tools")
FULL = [("ready", "5.4"), ("ready", "2026.1"), ("ready", "2.0")]


def make(mirror) -> House:
    clock = VirtualClock()
    places = [place for place in PLACES if place.name in (OLD, BLANK, DAMAGED)]
    made = House(clock, demo_hardware(clock.seconds, places), mirror)
    made.patience = Patience(poll_s=10.0)
    return made


@pytest.fixture
def house(mirror_folder) -> House:
    return make(mirror_folder)


def told(house, name, what):
    return [entry["slots"][0] for entry in house.devices[name].log if entry["what"] == what]


def stands(house, name):
    return [(part.store, part.version) for part in house.devices[name].parts if part.kind == "store"]


def of(house, name, kind):
    return [entry.value for entry in house.journal.tapes["1", name] if isinstance(entry.value, kind)]


def filled(house, name):
    return [pair for pair in writes_of(house.devices[name].log) if pair[0] in STORE]


async def test_a_blank_store_is_set_up_and_filled(house):
    state = await carry_out(house, BLANK)
    assert state.ended == "level", state.reason
    assert stands(house, BLANK) == FULL
    assert told(house, BLANK, "set up") == list(STORE)
    assert filled(house, BLANK) == [("store-diag", "5.4"), ("store-drivers", "2026.1"), ("store-tools", "2.0")]
    steps = [(i.planned.write.slot, i.way, i.planned.write.to) for i in of(house, BLANK, WriteIntent)]
    assert [s for s in steps if s[0] == "store-diag"] == [
        ("store-diag", SET_UP, SET_UP), ("store-diag", "push", "5.4"),
    ]  # fmt: skip
    assert not of(house, BLANK, Warned), "there is nothing on a blank one that could be lost"


async def test_of_a_damaged_store_only_the_damaged_partition_is_set_up_and_its_loss_told(house):
    state = await carry_out(house, DAMAGED)
    assert state.ended == "level", state.reason
    assert stands(house, DAMAGED) == FULL and told(house, DAMAGED, "set up") == ["store-drivers"]
    (warned,) = of(house, DAMAGED, Warned)
    assert warned.check == "partition" and "whatever could still be read of it is lost" in warned.seen


async def test_one_that_holds_an_older_version_is_filled_and_never_set_up(house):
    state = await carry_out(house, OLD)
    assert state.ended == "level", state.reason
    assert stands(house, OLD) == FULL and filled(house, OLD) == [("store-diag", "5.4")]
    assert not told(house, OLD, "set-up begun")


async def test_a_partition_that_can_not_be_set_up_is_left_to_a_person_and_nothing_is_sent_to_it(house):
    house.devices[BLANK].faults.append(Fault("set-up fails", "store-drivers", times=3))
    state = await carry_out(house, BLANK)
    assert state.ended == "failed" and "store-drivers" in state.reason, state.reason
    assert "store-drivers" not in dict(filled(house, BLANK))
    # The first trial and the remedies of the house: never more than one of each.
    assert 1 <= len([s for s in told(house, BLANK, "set-up begun") if s == "store-drivers"]) <= 3


async def test_one_that_fails_once_is_set_up_with_the_next_try(house):
    """What the failure did to it is no surprise to the check after the rounds in between."""
    house.devices[BLANK].faults.append(Fault("set-up fails", "store-drivers"))
    state = await carry_out(house, BLANK)
    assert state.ended == "level", state.reason
    assert stands(house, BLANK) == FULL and told(house, BLANK, "set-up begun").count("store-drivers") == 2


async def test_what_its_controller_does_not_let_be_set_up_is_stranded_and_the_rest_goes_level(house):
    house.devices[BLANK].quirks |= {"no partition volumes"}
    state = await carry_out(house, BLANK)
    assert state.ended == "level" and "blank, and its controller does not let it be set up" in state.reason
    assert not filled(house, BLANK) and not told(house, BLANK, "set-up begun")


async def test_somebody_fills_it_meanwhile_and_it_is_left_alone(house):
    def meddle(server, state, detail):
        if detail == f"store-drivers: {SET_UP}":
            part = house.devices[DAMAGED].part("store-drivers")
            part.store, part.version = "ready", "2025.1"

    house.listeners.append(meddle)
    state = await carry_out(house, DAMAGED)
    assert state.ended == "failed" and "2025.1" in state.reason, state.reason
    assert not told(house, DAMAGED, "set-up begun"), "what is on it now is somebody's"


@pytest.mark.parametrize("quirk", ["empty 202", "no task list", "no task state"])
async def test_every_way_of_following_a_set_up_is_borne(house, quirk):
    house.devices[DAMAGED].quirks |= {quirk}
    state = await carry_out(house, DAMAGED)
    assert state.ended == "level", state.reason
    assert stands(house, DAMAGED) == FULL and told(house, DAMAGED, "set up") == ["store-drivers"]


async def test_a_lost_answer_is_asked_after_and_never_ends_in_two_at_once(house):
    house.devices[DAMAGED].faults.append(Fault("answer lost", on="update"))
    state = await carry_out(house, DAMAGED)
    assert state.ended == "level", state.reason
    assert told(house, DAMAGED, "set up") == ["store-drivers"]
    assert Evidence.TASK_LIST in [s.evidence for s in of(house, DAMAGED, WriteSent)]


async def test_where_no_task_tells_the_partition_itself_does(house):
    house.devices[DAMAGED].quirks |= {"bare 202", "no task list"}
    state = await carry_out(house, DAMAGED)
    assert state.ended == "level", state.reason
    assert Evidence.VERSION in [d.evidence for d in of(house, DAMAGED, WriteDone)]


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_dying_at_any_moment_of_it_loses_and_doubles_nothing(mirror_folder, when):
    reference = make(mirror_folder)
    for position, trial in await deaths(reference, when, lambda house: carry_out(house, DAMAGED)):
        state = await carry_out(trial, DAMAGED)
        assert state.ended == "level", (position, state.reason)
        assert stands(trial, DAMAGED) == FULL, position
        # Set up twice is the same as once; filled is it once, and after that it is never set up again.
        assert filled(trial, DAMAGED) == filled(reference, DAMAGED), position
        log = [e["what"] for e in trial.devices[DAMAGED].log if e.get("slots") == ["store-drivers"]]
        assert "set-up begun" not in log[log.index("write begun") :], position
