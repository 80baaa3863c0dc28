"""What stops a server, or only warns of it, asked on fresh readings; someone else's job."""

from __future__ import annotations

import asyncio

import pytest

from ordnung.core.away import AwayLimits
from ordnung.engine.entries import (
    Warned,
    WriteIntent,
)
from ordnung.engine.run import carry_out_run
from ordnung.engine.telling import tell_entry
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from tests.simulation.one_server import carry_out, resets, with_manners, written


async def test_what_a_check_warns_of_stands_on_the_tape_once(house):
    house.protocols = ()
    outcome, _ = await with_manners(house, "surge-07", faults=[Fault("clock wrong", seconds=4000.0)])
    warned = [e.value for e in house.journal.tapes["1", "surge-07"] if isinstance(e.value, Warned)]
    assert outcome.ended == "level" and [w.check for w in warned] == ["clock"]
    assert tell_entry(warned[0]).startswith("warning, clock: its clock is 67 min ahead")


async def test_a_licence_that_is_missing_is_named_where_it_bars_every_way(house):
    house.protocols = ()
    outcome, _ = await with_manners(house, "surge-07", faults=[Fault("licence missing")])
    assert outcome.ended == "failed" and "Remote firmware delivery is not in force" in outcome.reason
    assert not written(house, "surge-07")


async def test_someone_elses_job_holds_a_place_for_minutes_not_hours(house):
    """A pending job of someone else held a place for six hours."""
    began = house.clock.t
    outcome, device = await with_manners(house, "surge-03", faults=[Fault("job pending")])
    assert outcome.ended == "failed" and "Configuration job of another (Pending)" in outcome.reason
    assert house.clock.t - began < 1500 and not writes_of(device.log)
    assert outcome.state.deferrals == 1 and outcome.state.place is None


async def test_a_job_that_no_list_shows_is_waited_for_as_long_as_the_controller_says_that_it_is_in_use(house):
    """``ResourceInUse`` to an update ended the server where its controller keeps no list of tasks."""
    device = house.devices["surge-03"]
    device.quirks, fault = frozenset({"no task list"}), Fault("job pending")
    device.faults.append(fault)

    async def end_it():
        await house.clock.sleep(800)
        device.faults.remove(fault)

    ending_it = asyncio.create_task(end_it())
    endings = await carry_out_run("1", [house.lane("surge-03")], house.world())
    await ending_it
    assert endings == {"surge-03": "level"}
    assert len(writes_of(device.log)) == len(set(writes_of(device.log))) > 0


async def test_one_that_stays_in_use_is_left_with_its_words(house):
    outcome, device = await with_manners(house, "surge-03", "no task list", faults=[Fault("job pending")])
    assert outcome.ended == "failed" and "the resource is in use or in transition" in outcome.reason
    assert not writes_of(device.log)


async def test_a_job_that_ends_meanwhile_is_waited_for_and_the_others_go_first(house):
    house.journal.limits = AwayLimits(at_once=1)
    device = house.devices["surge-03"]
    device.faults.append(Fault("job pending"))

    async def end_it():
        await house.clock.sleep(800)
        device.faults.clear()

    async def both():
        async with asyncio.TaskGroup() as group:
            group.create_task(end_it())
            return await group.create_task(
                carry_out_run("1", [house.lane("surge-03"), house.lane("gauge-01")], house.world())
            )

    assert await both() == {"surge-03": "level", "gauge-01": "level"}
    first = {name: house.devices[name].log[-1]["at"] for name in ("surge-03", "gauge-01")}
    assert first["gauge-01"] < first["surge-03"]


@pytest.mark.parametrize(
    ("fault", "seen"),
    [
        ("array rebuilding", "Rebuild"),
        ("feed lost", "has no input"),
    ],
)
async def test_checks_stop_a_server_before_anything_is_sent(house, fault, seen):
    """vault-08 was rebooted while its array rebuilt, chart-14 written with one feed lost."""
    name = "vault-01"
    outcome, device = await with_manners(house, name, faults=[Fault(fault)])
    assert outcome.ended == "failed" and seen in outcome.reason and "Nothing more was sent" in outcome.reason
    assert not writes_of(device.log) and resets(device) == []


async def test_a_check_is_asked_again_before_each_reset(house):
    device = house.devices["surge-07"]
    seen = house.told.append

    def lose_feed(item):
        if item[1] == "resetting" and not device.has_fault("feed lost"):
            device.faults.append(Fault("feed lost"))
        seen(item)

    house.told = type("Told", (list,), {"append": lambda self, item: lose_feed(item)})()
    outcome = await carry_out(house, "surge-07")
    assert outcome.ended == "failed" and "has no input" in outcome.reason
    assert writes_of(device.log) and resets(device) == []


async def test_a_person_may_override_some_checks_with_a_reason(house):
    why = "the second feed is pulled for tonight's work"
    house.overridden["surge-07"] = {"feed": why, "health": why}
    outcome, _ = await with_manners(house, "surge-07", faults=[Fault("feed lost")])
    assert outcome.ended == "level", outcome.reason


async def test_a_clock_that_is_off_takes_another_way_than_https(house):
    house.protocols = ("HTTPS", "HTTP")
    outcome, _ = await with_manners(house, "surge-03", faults=[Fault("clock wrong", seconds=4000)])
    assert outcome.ended == "level", outcome.reason
    ways = {e.value.way for e in house.journal.tapes["1", "surge-03"] if isinstance(e.value, WriteIntent)}
    assert ways == {"push"}
