"""Images that a device keeps and writes with the reset, and tasks that are open until that: by their own word they wait,
nothing is reset while they are written, and nothing is written twice.
"""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.engine import entries as e
from ordnung.engine.account import rounds_of
from ordnung.engine.entries import Reason, Remedy
from ordnung.engine.world import Choice
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.resets import reboot
from tests.simulation import test_ahead, test_unattended
from tests.simulation.deaths import deaths
from tests.simulation.invariants import check_server
from tests.simulation.one_server import THREE, carry_out, check_device, resets, with_manners, written
from tests.simulation.test_any_position import NAME, check_it_goes_level, open_house

AT_RESET, OPEN, FEW, UNTOLD = "writes at reset", "open until reset", "one at a time", "waiting untold"
MANNERS = [(AT_RESET,), (OPEN,), (AT_RESET, UNTOLD), (OPEN, UNTOLD), (AT_RESET, OPEN, "no apply time")]


def values(house, name=NAME, run="1"):
    return [entry.value for entry in house.journal.tapes[run, name]]


def stands(house, name, slot):
    part = house.devices[name].part(slot)
    return part.version, part.waiting


@pytest.mark.parametrize("manners", MANNERS, ids=", ".join)
async def test_it_goes_level_with_not_a_reset_more(mirror_folder, manners):
    house = open_house(mirror_folder)
    out, device = await with_manners(house, NAME, *manners)
    assert out.ended == "level" and resets(device) == THREE
    check_device(house, NAME)
    staged = sum(isinstance(value, e.WriteStaged) for value in values(house))
    assert staged == 3 + (OPEN in manners), "bios twice, raid-1, and the controller where its task is open too"
    told = [write for step in rounds_of(house.journal.tapes["1", NAME]) for write in step.writes]
    assert sorted((write.slot, write.to) for write in told) == sorted(written(house, NAME))
    assert {write.result for write in told} == {"written"}
    await check_server(house, "1", device)


async def test_what_a_device_takes_one_by_one_is_written_by_one_reset_each(mirror_folder):
    """It puts the next one off while it keeps one: that is no reason to wait, but to reset."""
    house = open_house(mirror_folder)
    out, device = await with_manners(house, NAME, AT_RESET, FEW)
    assert out.ended == "level" and resets(device) == ["controller restart", *["server reboot"] * 3]
    check_device(house, NAME)
    began = [entry.at for entry in house.journal.tapes["1", NAME] if isinstance(entry.value, e.WriteUnsent)]
    asked = [entry.at for entry in house.journal.tapes["1", NAME] if isinstance(entry.value, e.ResetIntent)]
    assert all(min(at for at in asked if at >= one) - one < datetime.timedelta(minutes=2) for one in began)


@pytest.mark.exhaustive
@pytest.mark.parametrize("manner", [AT_RESET, OPEN])
@pytest.mark.parametrize("when", ["before", "after"])
async def test_an_engine_that_dies_anywhere_in_it_loses_and_doubles_nothing(mirror_folder, manner, when):
    steady = open_house(mirror_folder)
    for position, left in await deaths(steady, when, lambda house: with_manners(house, NAME, manner, UNTOLD)):
        await check_it_goes_level(left, written(steady, NAME), position)


async def test_what_fails_in_the_reset_ends_its_server_with_the_device_s_own_word(mirror_folder):
    house = open_house(mirror_folder)
    house.remedies = dict.fromkeys(Remedy, Choice.NEVER)
    out, device = await with_manners(house, NAME, AT_RESET, faults=(Fault("write fails", "bios"),))
    assert (out.ended, out.state.ended.reason) == ("failed", Reason.TASK_FAILED)
    assert "bios 2.4.1 was not written" in out.reason and "raid-1" not in out.reason
    raid = next(part for part in device.parts if part.slot == "raid-1")
    assert raid.version == "7.18.0", "what was kept besides was followed to its end first"
    await check_server(house, "1", device)


async def test_a_stop_before_the_reset_says_what_its_device_keeps(mirror_folder):
    house = open_house(mirror_folder)

    def hear(server, state, detail):
        if state == "staged":
            assert detail == "bios 2.4.1: its device has it, and writes it with the reset"
            house.orders[NAME] = "stop"

    house.listeners.append(hear)
    out, device = await with_manners(house, NAME, AT_RESET)
    assert out.ended == "stopped" and out.reason.endswith("goes on with at whatever reset comes next: bios 2.4.1.")
    reboot(device)
    house.clock.t += 3600
    device.advance()
    assert stands(house, NAME, "bios") == ("2.4.1", None), "and so it is"


async def test_the_next_run_knows_what_an_earlier_one_left_and_writes_on_from_there(mirror_folder):
    """Its task waits still: once, that was taken for a job of somebody else."""
    house = open_house(mirror_folder)
    house.listeners.append(
        lambda server, state, detail: house.orders.update({NAME: "stop"}) if state == "staged" else None
    )
    await with_manners(house, NAME, AT_RESET, UNTOLD)
    house.orders.clear()
    house.listeners.clear()
    out = await carry_out(house, NAME, "2")
    assert out.ended == "level" and [w for w in written(house, NAME) if w[0] == "bios"] == [
        ("bios", "2.4.1"),
        ("bios", "3.2.0"),
    ]
    assert any(isinstance(value, e.LeftBefore) for value in values(house, run="2"))


async def test_what_somebody_else_has_left_is_waited_for_and_named(mirror_folder):
    house = open_house(mirror_folder)
    device = house.devices[NAME]
    device.quirks = frozenset({AT_RESET})
    device.open_task(["nic-1"], {"JsonBody": '{"Targets": ["/x/nic-1"]}'}).state = "Pending"
    out = await carry_out(house, NAME)
    assert out.state.ended.reason is Reason.FOREIGN_JOB and not written(house, NAME) and not resets(device)


async def test_what_was_written_by_a_reset_of_somebody_else_s_is_over(mirror_folder):
    house = test_ahead.make(mirror_folder)
    device = house.devices[test_ahead.ONE]
    device.quirks = frozenset({AT_RESET, UNTOLD})

    def hear(server, state, detail):
        if "written ahead" in detail and not resets(device):
            reboot(device)

    house.listeners.append(hear)
    assert await test_ahead.carry(house, test_ahead.ONE) == {test_ahead.ONE: "skipped"}
    assert writes_of(device.log) == [("bios", "3.2.0")] and len(resets(device)) == 1


@pytest.mark.parametrize(
    "manners", [(), (UNTOLD,), (AT_RESET,), (AT_RESET, UNTOLD), (AT_RESET, FEW), (OPEN,)], ids=", ".join
)
async def test_left_for_whatever_reboot_comes_it_is_told_and_not_written_again(mirror_folder, manners):
    name = test_unattended.WHOLE
    house = test_unattended.make(mirror_folder, name)
    device = house.devices[name]
    device.quirks = frozenset(manners)
    assert await test_unattended.carry(house, name) == "waits for a reboot"
    assert "bios 3.2.0" in test_unattended.reason(house, name)
    assert await test_unattended.carry(house, name, "2") == "waits for a reboot"
    reboot(device)
    house.clock.t += 7200
    device.advance()
    assert stands(house, name, "bios") == ("3.2.0", None)
    assert await test_unattended.carry(house, name, "3") == "skipped"
    assert writes_of(device.log) == [("bios", "3.2.0")]


async def test_a_reboot_may_take_longer_by_what_is_written_in_it(mirror_folder):
    house = open_house(mirror_folder)
    house.patience = dataclasses.replace(house.patience, back_s=480.0)
    out, _ = await with_manners(house, NAME, AT_RESET)
    assert out.ended == "level", out.reason
