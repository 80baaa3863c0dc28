"""Written before the window what waits for a reset (T8): in service, without a place among those away, never reset."""

from __future__ import annotations

import datetime

import pytest

from ordnung.core.away import AwayLimits, AwayPlace
from ordnung.core.turn import Turn, WaveStand
from ordnung.engine.entries import AheadDone, PlaceTaken, ResetIntent, WriteIntent
from ordnung.engine.run import carry_out_run
from ordnung.engine.telling import tell_reason
from ordnung.engine.world import Patience
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from ordnung.standins.resets import reboot
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.simulation.deaths import deaths
from tests.simulation.world import House, VirtualClock

HOUR = datetime.timedelta(hours=1)
ONE, OTHER = "surge-05", "surge-06"


def make(mirror) -> House:
    clock = VirtualClock()
    places = [place for place in PLACES if place.name in (ONE, OTHER)]
    made = House(clock, demo_hardware(clock.seconds, places), mirror)
    made.patience, made.ahead = Patience(poll_s=40.0), True
    start = clock.now()
    made.windows = ((start + 2 * HOUR, start + 6 * HOUR),)
    for name in (ONE, OTHER):
        made.journal.turns[name] = lambda _, name=name: Turn(server=name, windows=made.windows, needs_seconds=900)
    return made


@pytest.fixture
def house(mirror_folder) -> House:
    return make(mirror_folder)


async def carry(house, *names, group=None):
    return await carry_out_run("1", [house.lane(name, group) for name in names], house.world())


def at_of(house, server, kind):
    return [entry.at for entry in house.journal.tapes["1", server] if isinstance(entry.value, kind)]


async def test_what_waits_for_a_reset_is_written_before_the_window_and_reset_in_it(house):
    opens = house.windows[0][0]
    assert await carry(house, ONE) == {ONE: "level"}
    writes, resets = at_of(house, ONE, WriteIntent), at_of(house, ONE, ResetIntent)
    assert max(writes) < opens <= min(resets)
    first, real = (entry.value for entry in house.journal.tapes["1", ONE] if isinstance(entry.value, PlaceTaken))
    assert first.place.ahead and not first.place.outage and real.place.outage and not real.place.ahead
    assert any("written ahead; for its turn: the window opens" in detail for _, _, detail in house.told)
    log = house.devices[ONE].log
    assert len(writes_of(log)) == len(set(writes_of(log))), "nothing is written twice"


async def test_what_its_controller_does_not_show_is_known_to_wait_all_the_same(house):
    """Many inventories tell what runs and nothing else: what was written ahead was taken for a lie."""
    house.devices[ONE].quirks = frozenset({"waiting untold"})
    assert await carry(house, ONE) == {ONE: "level"}
    log = house.devices[ONE].log
    assert len(writes_of(log)) == 1 and len(at_of(house, ONE, ResetIntent)) == 1


async def test_what_is_told_to_run_before_its_turn_is_reset_at_its_turn(house):
    """It was read at its turn, called level, and never restarted."""
    house.devices[ONE].quirks = frozenset({"versions early"})
    assert await carry(house, ONE) == {ONE: "level"}
    log = house.devices[ONE].log
    assert len(writes_of(log)) == 1 and len(at_of(house, ONE, ResetIntent)) == 1


async def test_without_the_sheet_s_word_nothing_is_sent_before_the_window(house):
    house.ahead = False
    assert await carry(house, ONE) == {ONE: "level"}
    assert min(at_of(house, ONE, WriteIntent)) >= house.windows[0][0]


async def test_a_group_whose_other_is_away_bars_no_writing_ahead_and_one_at_once_does(house):
    away = AwayPlace(server="elsewhere", groups=("pair",), kept=True)
    house.journal.states["0", "elsewhere"] = type("State", (), {"place": away})()
    house.journal.limits = AwayLimits(groups={"pair": 1}, at_once=1)
    house.patience = Patience(poll_s=40.0, place_s=600.0)
    assert set((await carry(house, ONE, OTHER, group="pair")).values()) == {"stopped"}
    spans = sorted((at_of(house, n, PlaceTaken)[0], at_of(house, n, AheadDone)[0]) for n in (ONE, OTHER))
    assert spans[0][1] <= spans[1][0], "one at once is one at once"
    told = tell_reason(*_ended(house, ONE))
    assert "its turn never came: group pair allows 1 away" in told and told.endswith("reset comes next: bios 3.2.0.")
    assert not at_of(house, ONE, ResetIntent)


def _ended(house, name):
    ended = house.journal.tapes["1", name][-1].value
    return ended.reason, ended.facts


async def test_someone_who_restarts_it_meanwhile_has_done_the_rest(house):
    """What waited is active by whatever reset came: at its turn it is read anew, and not reset for nothing."""

    def hear(server, state, detail):
        if "written ahead" in detail and not house.devices[ONE].has_fault("slow"):
            house.devices[ONE].faults.append(Fault("slow"))
            reboot(house.devices[ONE])

    house.listeners.append(hear)
    assert await carry(house, ONE) == {ONE: "skipped"}, "level already"
    assert at_of(house, ONE, ResetIntent) == []


@pytest.mark.parametrize("limit", ["gate", "not before"])
async def test_a_person_s_word_and_a_wish_are_waited_for_with_everything(house, limit):
    stand = WaveStand(name="canary", gate=True, ended_at=house.clock.now())
    start = house.clock.now()
    turn = {
        "gate": Turn(server=ONE, before=(stand,)), "not before": Turn(server=ONE, not_before=start + HOUR),
    }[limit]  # fmt: skip

    def hear(server, state, detail):
        if house.clock.now() - start > HOUR:
            house.journal.turns.clear()

    house.journal.turns[ONE] = lambda _: turn
    house.listeners.append(hear)
    assert await carry(house, ONE) == {ONE: "level"}
    assert min(at_of(house, ONE, WriteIntent)) >= start + HOUR and not at_of(house, ONE, AheadDone)


async def test_a_window_that_is_lost_meanwhile_leaves_it_stopped_and_says_what_waits(house):
    def hear(server, state, detail):
        if "written ahead" in detail:
            house.journal.turns[ONE] = lambda _: Turn(
                server=ONE, windows=((house.clock.now(),) * 2,), needs_seconds=900
            )

    house.listeners.append(hear)
    assert await carry(house, ONE) == {ONE: "stopped"}
    assert "Nothing more was sent." in tell_reason(*_ended(house, ONE)) and not at_of(house, ONE, ResetIntent)


async def test_what_fails_ahead_is_gone_on_with_in_the_window(house):
    house.devices[ONE].faults.append(Fault("image refused", times=1))
    assert await carry(house, ONE) == {ONE: "level"}
    assert at_of(house, ONE, AheadDone) and min(at_of(house, ONE, ResetIntent)) >= house.windows[0][0]


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_dying_at_any_moment_of_it_doubles_nothing_and_resets_nothing_early(mirror_folder, when):
    steady = make(mirror_folder)
    for position, trial in await deaths(steady, when, lambda house: carry(house, ONE)):
        assert await carry(trial, ONE) == {ONE: "level"}, position
        assert writes_of(trial.devices[ONE].log) == writes_of(steady.devices[ONE].log), position
        assert min(at_of(trial, ONE, ResetIntent)) >= trial.windows[0][0], position
