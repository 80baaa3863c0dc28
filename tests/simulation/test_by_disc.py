"""A run by a disc in virtual media: started from it, followed by readings, and taken out of it whatever happens."""

from __future__ import annotations

import itertools

import pytest

from ordnung.core.sheet import DiscPart
from ordnung.engine.disc_steps import INSERT
from ordnung.engine.entries import WriteIntent
from ordnung.engine.world import Patience
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.kit_host import KitHost
from tests.simulation.one_server import carry_out, check_device, written
from tests.simulation.world import Crashed, House, VirtualClock

NAME, SMALL = "surge-07", "surge-05"
SYSTEM = "/redfish/v1/Systems/1"


def make(mirror, name: str = NAME) -> House:
    clock = VirtualClock()
    made = House(clock, demo_hardware(clock.seconds, [place for place in PLACES if place.name == name]), mirror)
    made.patience, made.by_disc = Patience(poll_s=20.0, whole_s=120.0), True
    made.devices[name].host = KitHost(made)
    return made


@pytest.fixture
def house(mirror_folder) -> House:
    return make(mirror_folder)


def done(house, name: str = NAME):
    return [entry["what"] for entry in house.devices[name].log]


def is_left_as_it_was(house, name: str = NAME) -> bool:
    """Its own system runs, no disc is inserted, and no start goes there."""
    device = house.devices[name]
    boot = device.patched.get(SYSTEM, {}).get("Boot", {})
    device.advance()
    enabled = boot.get("BootSourceOverrideEnabled", "Disabled")
    return not device.media and enabled == "Disabled" and not (device.runs_disc or device.starts_disc)


async def test_a_server_goes_level_by_the_kit_on_its_disc(house):
    state = await carry_out(house, NAME)
    assert state.ended == "level", state.reason
    check_device(house, NAME)
    assert is_left_as_it_was(house)
    resets = [e["kind"] for e in house.devices[NAME].log if e["what"] == "reset"]
    assert resets == [
        "server reboot",  # into the disc
        "controller restart", "server reboot", "server reboot",  # the kit's own, as by any other way
        "server reboot",  # out of it
    ]  # fmt: skip
    ours = [e.value for e in house.journal.tapes["1", NAME] if isinstance(e.value, WriteIntent)]
    told = [(i.planned.write.slot, i.planned.write.to) for i in ours if i.planned.disc is DiscPart.KIT]
    assert sorted(told) == sorted(written(house, NAME)), "the tape says what the device was written with"


async def test_it_is_not_taken_out_of_a_start_that_the_kit_has_asked_for(house):
    """Firmware may write itself while it starts, and no task tells of that."""
    await carry_out(house, NAME)
    resets = [e["at"] for e in house.devices[NAME].log if e["what"] == "reset" and e["kind"] == "server reboot"]
    ups = [e["at"] for e in house.devices[NAME].log if e["what"] == "system up"]
    assert all(any(a < up <= b for up in ups) for a, b in itertools.pairwise(resets))


@pytest.mark.exhaustive
@pytest.mark.parametrize(
    "quirk",
    [
        "media at manager",
        "media by change",
        "media plain",
        "tags change",
        "wants its tag",
        "start half told",
        "no boot progress",
        "no reset time",
        "basic only",
        "empty 202",
        "starts untold",
        "listed one by one",
        "versions late",
    ],
)
async def test_every_way_of_telling_is_borne(house, quirk):
    house.devices[NAME].quirks |= {quirk}
    state = await carry_out(house, NAME)
    assert state.ended == "level", state.reason
    check_device(house, NAME)
    assert is_left_as_it_was(house)


async def test_where_starts_can_be_sent_to_a_disc_only_once_nothing_is_done(house):
    house.devices[NAME].quirks |= {"one other start"}
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "more than once" in state.reason, state.reason
    assert "reset" not in done(house) and is_left_as_it_was(house)


async def test_where_nothing_is_told_of_starts_nothing_is_done(house):
    """Whether it went to the disc, and out of it again, could not be seen: it would be left with the disc in."""
    house.devices[NAME].quirks |= {"no reset time", "no boot progress"}
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "tells nothing of its server's starts" in state.reason, state.reason
    assert done(house) == []


async def test_where_no_disc_is_served_nothing_is_done(house):
    house.protocols = ()
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "no disc can be fetched from here" in state.reason, state.reason
    assert done(house) == []


async def test_an_image_that_was_altered_is_not_inserted(house):
    house.disc_at_hand = False
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "not what was written out" in state.reason, state.reason
    assert done(house) == []


async def test_a_disc_of_somebody_else_is_left_where_it_is(house):
    house.devices[NAME].media = {"Image": "https://127.0.0.1/rescue.iso"}
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "another disc" in state.reason, state.reason
    assert "reset" not in done(house) and house.devices[NAME].media["Image"].endswith("rescue.iso")


async def test_a_start_that_does_not_go_to_the_disc_is_noticed_and_taken_back(house):
    house.devices[NAME].faults.append(Fault("boot order ignored"))
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "nothing new" in state.reason, state.reason
    assert not writes_of(house.devices[NAME].log) and is_left_as_it_was(house)


async def test_a_disc_lost_half_way_leaves_a_whole_server_in_its_own_system(house):
    house.devices[NAME].faults.append(Fault("media lost"))
    state = await carry_out(house, NAME)
    assert state.ended == "failed", state.reason
    check_device(house, NAME)
    assert is_left_as_it_was(house) and len(writes_of(house.devices[NAME].log)) == 1
    assert state.state.place is None, "it is back: its place is free"


@pytest.mark.parametrize("quirks", [(), ("no task state",), ("no task state", "empty 202")], ids=str)
@pytest.mark.parametrize("is_lost", [False, True], ids=["the kit waits for it", "the kit is gone"])
async def test_a_write_that_stalls_under_the_kit_is_never_reset(house, quirks, is_lost):
    """Whoever asked for it: where the task does not tell how it stands, its monitor does."""
    house.devices[NAME].quirks |= set(quirks)
    house.devices[NAME].faults.append(Fault("task stalls", "bmc" if is_lost else "bios"))
    house.devices[NAME].faults += [Fault("media lost")] * is_lost
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "disc may still be" in state.reason, state.reason
    assert "killed a write" not in done(house) and state.state.place is not None
    assert bool(house.devices[NAME].media) is not is_lost, "what runs on it is left alone"


@pytest.mark.parametrize(
    "quirks", [("no task list",), ("no task list", "no session context"), ("bare 202", "no task list")]
)
async def test_a_write_that_stalls_where_no_tasks_are_listed_is_never_reset(house, quirks):
    house.devices[NAME].quirks |= {*quirks, "empty 202"}
    house.devices[NAME].faults += [Fault("task stalls", "bios")] * 3
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "can't be seen" in state.reason and "disc may still be" in state.reason, (
        state.reason
    )
    assert "killed a write" not in done(house) and state.state.place is not None


@pytest.mark.parametrize("order", ["stop", "leave out"])
async def test_who_stops_it_before_its_reboot_gets_it_back_without_one(house, order):
    def hear(server, state, detail):
        if detail == INSERT:
            house.orders[NAME] = order

    house.listeners.append(hear)
    state = await carry_out(house, NAME)
    assert state.ended == "stopped", state.reason
    assert "reset" not in done(house) and is_left_as_it_was(house)


async def test_who_stops_it_while_the_kit_is_at_work_gets_it_level(house):
    house.listeners.append(lambda server, state, detail: house.orders.update({NAME: "stop"}) if "kit" in detail else 0)
    state = await carry_out(house, NAME)
    assert state.ended == "level", state.reason
    assert is_left_as_it_was(house)


@pytest.mark.parametrize(("on", "times"), [("reset", 1), ("update", 1), ("update", 2)])
async def test_a_lost_answer_is_asked_after(house, on, times):
    house.devices[NAME].faults.append(Fault("answer lost", on=on, times=times))
    state = await carry_out(house, NAME)
    assert state.ended == "level", state.reason
    assert done(house).count("media inserted") == 1 and is_left_as_it_was(house)
    check_device(house, NAME)


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_a_crash_at_any_position_loses_and_doubles_nothing(mirror_folder, when):
    reference = make(mirror_folder, SMALL)
    await carry_out(reference, SMALL)
    wanted, resets = written(reference, SMALL), done(reference, SMALL).count("reset")
    assert wanted and reference.journal.count > 15
    for position in range(1, reference.journal.count + 1):
        trial = make(mirror_folder, SMALL)
        setattr(trial.journal, f"crash_{when}", position)
        with pytest.raises(Crashed):
            await carry_out(trial, SMALL)
        trial.born()
        state = await carry_out(trial, SMALL)
        assert state.ended == "level", (position, state.reason)
        assert written(trial, SMALL) == wanted and done(trial, SMALL).count("reset") == resets, position
        check_device(trial, SMALL)
        assert is_left_as_it_was(trial, SMALL), position


@pytest.mark.parametrize("quirk", ["", "no session context", "strict sign-in", "basic only"])
async def test_why_the_kit_has_ended_is_told_where_its_controller_keeps_a_word(house, quirk):
    house.devices[NAME].quirks |= {quirk} - {""}
    house.devices[NAME].faults += [Fault("write fails", "bios")] * 3
    state = await carry_out(house, NAME)
    assert state.ended == "failed" and "has ended without bringing it to" in state.reason, state.reason
    assert ("It said: bios" in state.reason) is (not quirk), state.reason
    assert is_left_as_it_was(house)
