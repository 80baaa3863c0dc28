"""The engine keeps to its sheet: waves and gates, windows, hold points, and only what was approved."""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.core.turn import Turn, WaveStand
from ordnung.engine.entries import Ended, PlaceTaken, ResetIntent
from ordnung.engine.place_steps import take_place
from ordnung.engine.run import carry_out_run
from ordnung.engine.server_run import carry_out
from ordnung.engine.telling import tell_reason
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.world import House, VirtualClock

NAMES = ("gauge-01", "gauge-02")


@pytest.fixture
def house(mirror_folder) -> House:
    clock = VirtualClock()
    places = [place for place in PLACES if place.name in NAMES]
    return House(clock, demo_hardware(clock.seconds, places), mirror_folder)


def at_of(house, server, kind):
    return [entry.at for entry in house.journal.tapes["1", server] if isinstance(entry.value, kind)]


def after(first, **facts):
    """A turn that waits for another server, as the tapes stand."""

    def turn(journal):
        tape = journal.tapes.get(("1", first), [])
        ended = [entry for entry in tape if isinstance(entry.value, Ended)]
        stand = WaveStand(
            name="canary", working=() if ended else (first,), ended_at=ended[0].at if ended else None, **facts
        )
        return Turn(server="gauge-02", wave="rest", before=(stand,))

    return turn


async def carry(house, *names):
    return await carry_out_run("1", [house.lane(name) for name in names], house.world())


async def test_a_later_wave_begins_when_the_earlier_one_has_ended_and_its_wait_is_over(house):
    house.journal.turns["gauge-02"] = after("gauge-01", wait_seconds=1800)
    assert await carry(house, "gauge-02", "gauge-01") == {"gauge-01": "level", "gauge-02": "level"}
    (ended,), (begun, *_) = at_of(house, "gauge-01", Ended), at_of(house, "gauge-02", PlaceTaken)
    assert begun - ended >= datetime.timedelta(seconds=1800)
    assert any("canary is left to run until" in detail for _, _, detail in house.told)


async def test_a_gate_is_waited_for_until_a_person_opens_it(house):
    opened = []

    def turn(journal):
        found = after("gauge-01", gate=True)(journal)
        (stand,) = found.before
        return dataclasses.replace(found, before=(dataclasses.replace(stand, opened=bool(opened)),))

    def hear(server, state, detail):
        if detail.endswith("a person lets it go on after canary"):
            opened.append(house.clock.now())

    house.journal.turns["gauge-02"] = turn
    house.listeners.append(hear)
    assert set((await carry(house, *NAMES)).values()) == {"level"}
    assert opened and at_of(house, "gauge-02", PlaceTaken)[0] >= opened[0]


async def test_who_needs_longer_than_the_window_is_left_over_untouched(house):
    start = house.clock.now()
    windows = ((start, start + datetime.timedelta(minutes=20)),)
    house.journal.turns["gauge-01"] = lambda _: Turn(server="gauge-01", windows=windows, needs_seconds=1500)
    assert await carry(house, "gauge-01") == {"gauge-01": "left over"}
    assert writes_of(house.devices["gauge-01"].log) == []
    ended = house.journal.tapes["1", "gauge-01"][-1].value
    assert "needs 25 min, 20 are left. Nothing was sent." in tell_reason(ended.reason, ended.facts)


async def test_one_that_was_put_off_half_way_and_finds_no_room_any_more_is_not_called_untouched(house):
    start = house.clock.now()
    windows = ((start, start + datetime.timedelta(minutes=20)),)
    house.journal.turns["gauge-01"] = lambda _: Turn(server="gauge-01", windows=windows, needs_seconds=1500)
    hand = house.hand("gauge-01")
    hand.state = dataclasses.replace(hand.state, done=(("bmc", "2.80.0"),))
    await take_place(hand)
    ended = house.journal.tapes["1", "gauge-01"][-1].value
    assert ended.ending == "stopped"
    assert "Nothing more was sent." in tell_reason(ended.reason, ended.facts)


@pytest.mark.exhaustive
async def test_no_reset_is_asked_for_while_no_window_is_open(house):
    start = house.clock.now()
    again = start + datetime.timedelta(hours=20)
    house.windows = ((start, start + datetime.timedelta(seconds=60)), (again, again + datetime.timedelta(hours=6)))
    assert await carry(house, "gauge-01") == {"gauge-01": "level"}
    assert min(at_of(house, "gauge-01", ResetIntent)) >= again
    assert any(detail.startswith("before its reset: outside the window") for _, _, detail in house.told)


async def test_a_stop_is_heeded_by_who_waits_for_a_window(house):
    start = house.clock.now()
    house.windows = ((start, start + datetime.timedelta(seconds=60)),)

    def hear(server, state, detail):
        if "the window closed" in detail:
            house.orders["gauge-01"] = "stop"

    house.listeners.append(hear)
    assert await carry(house, "gauge-01") == {"gauge-01": "stopped"}
    assert at_of(house, "gauge-01", ResetIntent) == []


async def planned(house):
    """(slot, sum) of everything that gauge-01 would be sent."""
    hand = house.hand("gauge-01")
    async with hand.open() as controller:
        _, rounds = await hand.plan(await controller.read(house.clock.now))
    return [(p.write.slot, p.payload.sha256) for step in rounds for p in step.writes]


async def test_only_what_was_approved_is_ever_sent(house):
    wanted = await planned(house)
    assert len(wanted) > 1
    hand = house.hand("gauge-01")
    hand.approved = frozenset(wanted)
    assert (await carry_out(hand)).ended.ending == "level"


async def test_a_server_that_would_need_something_else_now_is_left_over_untouched(house):
    wanted = await planned(house)
    hand = house.hand("gauge-01")
    hand.approved = frozenset(wanted[1:])
    ended = (await carry_out(hand)).ended
    assert ended.ending == "left over" and writes_of(house.devices["gauge-01"].log) == []
    assert wanted[0][0] in tell_reason(ended.reason, ended.facts)


async def test_who_is_held_before_its_turn_holds_up_nobody_else(house):
    """A person holds the first in the line: the others pass it, also where one goes at a time."""
    house.journal.limits = dataclasses.replace(house.journal.limits, at_once=1)
    house.orders["gauge-01"] = "hold"

    def hear(server, state, detail):
        if server == "gauge-02" and detail.startswith("round") and house.orders["gauge-01"] == "hold":
            house.orders["gauge-01"] = "go"

    house.listeners.append(hear)
    assert set((await carry(house, *NAMES)).values()) == {"level"}
    assert at_of(house, "gauge-02", PlaceTaken)[0] < at_of(house, "gauge-01", PlaceTaken)[0]
