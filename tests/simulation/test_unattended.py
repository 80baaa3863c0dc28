"""Reboots left to whenever they come (P5): nothing of ours resets a system, and what is written waits and is marked."""

from __future__ import annotations

import pytest

from ordnung.engine.entries import Ended, ResetIntent, ResetKind
from ordnung.engine.run import carry_out_run
from ordnung.engine.telling import tell_reason
from ordnung.engine.world import USUAL, Choice
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.resets import reboot
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.deaths import deaths
from tests.simulation.world import House, VirtualClock

WHOLE, DEEP, ALONE, LEVEL = "surge-05", "surge-07", "vault-01", "surge-01"


def make(mirror, *names) -> House:
    clock = VirtualClock()
    made = House(clock, demo_hardware(clock.seconds, [place for place in PLACES if place.name in names]), mirror)
    made.unattended = True
    return made


async def carry(house, name, run="1"):
    ended = await carry_out_run(run, [house.lane(name)], house.world())
    return ended[name]


def reason(house, name, run="1") -> str:
    (ended,) = [entry.value for entry in house.journal.tapes[run, name] if isinstance(entry.value, Ended)]
    return tell_reason(ended.reason, ended.facts)


def outages(house, name) -> list[str]:
    kinds = [e.value.kind for (_, n), tape in house.journal.tapes.items() if n == name for e in tape
             if isinstance(e.value, ResetIntent)]  # fmt: skip
    return [kind for kind in kinds if kind is not ResetKind.CONTROLLER_RESTART]


async def test_what_is_written_waits_and_comes_with_the_next_reboot(mirror_folder):
    house = make(mirror_folder, WHOLE)
    device = house.devices[WHOLE]
    assert await carry(house, WHOLE) == "waits for a reboot"
    assert reason(house, WHOLE).startswith("written, and active at the next reboot, whenever that is: bios 3.2.0.")
    bios = next(part for part in device.parts if part.slot == "bios")
    assert (bios.version, bios.waiting) == ("3.0.5", "3.2.0") and outages(house, WHOLE) == []
    assert await carry(house, WHOLE, "2") == "waits for a reboot", "nothing is written again"
    reboot(device)
    house.clock.t += 3600
    assert await carry(house, WHOLE, "3") == "skipped" and reason(house, WHOLE, "3") == "level already"
    assert writes_of(device.log) == [("bios", "3.2.0")]


@pytest.mark.parametrize("quirks", [("versions early",), ("versions early", "no reset time")], ids=" and ".join)
async def test_what_is_told_to_run_before_its_reset_waits_all_the_same(mirror_folder, quirks):
    """Such a server was called level, and its reboot forgotten."""
    house = make(mirror_folder, WHOLE)
    device = house.devices[WHOLE]
    device.quirks = frozenset(quirks)
    assert await carry(house, WHOLE) == "waits for a reboot"
    assert reason(house, WHOLE).startswith("written, and active at the next reboot, whenever that is: bios 3.2.0.")
    assert writes_of(device.log) == [("bios", "3.2.0")] and outages(house, WHOLE) == []


async def test_of_two_releases_in_a_row_the_last_one_waits(mirror_folder):
    """The one in between was said to wait for the reboot, though the next had long replaced it."""
    house = make(mirror_folder, "gauge-01")
    house.devices["gauge-01"].quirks = frozenset({"waiting untold"})
    assert await carry(house, "gauge-01") == "waits for a reboot"
    versions = {part.slot: part.waiting for part in house.devices["gauge-01"].parts if part.waiting is not None}
    told = reason(house, "gauge-01")
    assert all(f"{slot} {version}" in told for slot, version in versions.items())
    assert told.count("bmc") == 0, told


async def test_restarts_of_the_controller_are_carried_out_reboots_are_not(mirror_folder):
    house = make(mirror_folder, DEEP)
    assert await carry(house, DEEP) == "waits for a reboot"
    versions = {part.slot: (part.version, part.waiting) for part in house.devices[DEEP].parts}
    assert versions["bmc"] == ("5.30.0", None) and versions["bios"] == ("2.1.0", "2.4.1")
    assert outages(house, DEEP) == [], "the release after the must-stop is left for another night"
    reboot(house.devices[DEEP])
    house.clock.t += 3600
    assert await carry(house, DEEP, "2") == "waits for a reboot"
    assert {part.slot: part.waiting for part in house.devices[DEEP].parts}["bios"] == "3.2.0"


async def test_one_that_is_restarted_meanwhile_is_gone_on_with(mirror_folder):
    house = make(mirror_folder, WHOLE)

    def hear(server, state, detail):
        if state == "confirming" and detail == "reading again" and not house.devices[WHOLE].has_fault("slow"):
            house.devices[WHOLE].faults.append(Fault("slow"))
            reboot(house.devices[WHOLE])
            house.clock.t += 3600

    house.listeners.append(hear)
    assert await carry(house, WHOLE) == "level"
    assert outages(house, WHOLE) == []


async def test_what_can_not_be_left_is_said_and_nothing_is_sent(mirror_folder):
    house = make(mirror_folder, ALONE)
    ended = await carry(house, ALONE)
    assert ended in ("left over", "stopped") and "can't be left for a reboot" in reason(house, ALONE)
    assert outages(house, ALONE) == []
    assert all(part.waiting is None for part in house.devices[ALONE].parts if part.slot == "bios")


async def test_who_is_level_is_level(mirror_folder):
    house = make(mirror_folder, LEVEL)
    assert (await carry(house, LEVEL), reason(house, LEVEL)) == ("skipped", "level already")


async def test_nothing_is_put_back_where_nobody_is(mirror_folder):
    house = make(mirror_folder, DEEP)
    house.remedies = dict.fromkeys(USUAL, Choice.AUTOMATIC)
    house.devices[DEEP].faults.append(Fault("image refused", slot="bios", times=9))
    assert await carry(house, DEEP) in ("waits for a reboot", "failed", "stopped")
    assert outages(house, DEEP) == []


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_dying_at_any_moment_doubles_nothing_and_resets_nothing(mirror_folder, when):
    for position, trial in await deaths(make(mirror_folder, WHOLE), when, lambda house: carry(house, WHOLE)):
        assert await carry(trial, WHOLE) == "waits for a reboot", position
        assert writes_of(trial.devices[WHOLE].log) == [("bios", "3.2.0")] and not outages(trial, WHOLE)
