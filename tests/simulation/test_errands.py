"""What is done outside while a server is worked on: work moved off and back, a ring that heals, hands at the server."""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.core.away import AwayLimits
from ordnung.core.errands import ErrandKind, Moves
from ordnung.core.sheet import name_payloads
from ordnung.engine import entries as e
from ordnung.engine.hand import Hand
from ordnung.engine.ports import Help, HelpState
from ordnung.engine.run import carry_out_run
from ordnung.engine.telling import tell_entry, tell_reason
from ordnung.standins.hardware import writes_of
from ordnung.standins.scenario import PLACES, demo_hardware
from ordnung.standins.workdesk import DeskFault
from tests.simulation.clock import run
from tests.simulation.deaths import deaths
from tests.simulation.invariants import check_desk
from tests.simulation.world import House, VirtualClock

NAMES = ("gauge-01", "gauge-02")
OFF = Moves(off=True)


def make(mirror, names=NAMES, **limits) -> House:
    clock = VirtualClock()
    hardware = demo_hardware(clock.seconds, [place for place in PLACES if place.name in names])
    return House(clock, hardware, mirror, AwayLimits(**limits) if limits else None)


@pytest.fixture
def house(mirror_folder) -> House:
    return make(mirror_folder)


async def carry(house, *names, group=None):
    return await carry_out_run("1", [house.lane(name, group) for name in names], house.world())


def values(house, server, *kinds):
    return [entry.value for entry in house.journal.tapes["1", server] if isinstance(entry.value, kinds)]


def errands(house, server):
    return [value.errand.kind for value in values(house, server, e.ErrandAsked)]


def told_end(house, server):
    ended = values(house, server, e.Ended)[0]
    return ended.ending, tell_reason(ended.reason, ended.facts)


def with_hands(monkeypatch, **hands):
    """Every release has steps by hand, as a catalog may say of it."""

    async def plan(self, server, known=Hand.plan):
        route, rounds = await known(self, server)
        made = [dataclasses.replace(r, writes=tuple(dataclasses.replace(w, **hands) for w in r.writes)) for r in rounds]
        return route, tuple(made)

    monkeypatch.setattr(Hand, "plan", plan)


async def test_work_is_moved_off_before_the_first_outage_and_taken_back_after_the_last_check(house):
    house.moves["gauge-01"] = OFF
    assert await carry(house, "gauge-01") == {"gauge-01": "level"}
    assert errands(house, "gauge-01") == [ErrandKind.MOVE_OFF, ErrandKind.TAKE_BACK]
    kinds = [type(entry.value).__name__ for entry in house.journal.tapes["1", "gauge-01"]]
    assert kinds.index("WriteIntent") < kinds.index("ErrandAsked"), "it is written while it is in service"
    assert kinds[-3:] == ["ErrandAsked", "ErrandDone", "Ended"]
    check_desk(house, house.devices["gauge-01"], OFF)
    assert house.desk.where["gauge-01"] == "here"


async def test_a_server_that_comes_back_between_rounds_is_moved_off_for_each_outage(mirror_folder):
    house = make(mirror_folder, ("surge-09",))
    house.moves["surge-09"] = Moves(off=True, between=True)
    assert await carry(house, "surge-09") == {"surge-09": "level"}
    outages = [v for v in values(house, "surge-09", e.ResetIntent) if v.kind.is_outage]
    assert len(outages) > 1
    assert errands(house, "surge-09") == [ErrandKind.MOVE_OFF, ErrandKind.TAKE_BACK] * len(outages)
    check_desk(house, house.devices["surge-09"], house.moves["surge-09"])


async def test_nothing_is_reset_whose_work_is_not_moved_off(house):
    house.moves["gauge-01"] = OFF
    house.desk.faults.append(DeskFault("refuses", times=10_000))
    assert await carry(house, "gauge-01") == {"gauge-01": "stopped"}
    assert not [v for v in values(house, "gauge-01", e.ResetIntent) if v.kind.is_outage]
    ending, words = told_end(house, "gauge-01")
    assert "its work was not moved off: not now, after 60 min. Nothing more was sent" in words
    assert "Written, and active with whatever reset comes next: bios" in words
    assert house.journal.states["1", "gauge-01"].place is None
    assert any(detail == "for its work to be moved off: not now" for _, _, detail in house.told)


async def test_work_that_may_still_be_moved_off_is_asked_back_before_the_server_is_left(house):
    house.moves["gauge-01"] = OFF
    house.desk.faults.append(DeskFault("silent", on="work.move-off"))
    assert await carry(house, "gauge-01") == {"gauge-01": "stopped"}
    assert errands(house, "gauge-01") == [ErrandKind.MOVE_OFF, ErrandKind.TAKE_BACK]
    assert house.desk.where["gauge-01"] == "here"


async def test_a_desk_that_has_forgotten_what_it_took_on_is_asked_again_under_the_same_key(house):
    house.moves["gauge-01"] = OFF
    house.desk.faults += [DeskFault("forgets"), DeskFault("fails", times=3)]
    assert await carry(house, "gauge-01") == {"gauge-01": "level"}
    check_desk(house, house.devices["gauge-01"], OFF)


async def test_a_server_whose_work_is_not_taken_back_keeps_its_place_and_a_person_is_called(mirror_folder):
    house = make(mirror_folder, groups={"pair": 1})
    house.patience = dataclasses.replace(house.patience, place_s=600.0)
    house.moves["gauge-01"] = OFF
    house.desk.faults.append(DeskFault("refuses", on="work.take-back", times=10_000))
    ends = await carry(house, *NAMES, group="pair")
    assert ends == {"gauge-01": "failed", "gauge-02": "left over"}
    assert "its work was not taken back" in told_end(house, "gauge-01")[1]
    assert house.journal.states["1", "gauge-01"].place.kept


async def test_the_next_of_a_ring_goes_when_the_ring_is_whole_again(mirror_folder):
    house = make(mirror_folder, groups={"ring": 1})
    house.moves = dict.fromkeys(NAMES, Moves(healed=True))
    house.desk.heals = 4000.0
    assert set((await carry(house, *NAMES, group="ring")).values()) == {"level"}
    reset_at = {d.name: next(x["at"] for x in d.log if x["what"] == "reset") for d in house.devices.values()}
    first, second = sorted(house.devices.values(), key=lambda d: reset_at[d.name])
    whole = [x.at for x in house.journal.tapes["1", first.name] if isinstance(x.value, e.ErrandDone)][-1]
    assert min(x["at"] for x in second.log if x["what"] == "reset") >= whole.timestamp()


async def test_one_that_only_heals_does_not_keep_others_from_being_worked_on(mirror_folder):
    house = make(mirror_folder, groups={"ring": 1}, at_once=1)
    house.moves = {"gauge-01": Moves(healed=True)}
    house.desk.faults.append(DeskFault("silent", on="group.healed"))
    lanes = [house.lane("gauge-01", "ring"), house.lane("gauge-02")]
    ends = await carry_out_run("1", lanes, house.world())
    assert ends == {"gauge-01": "failed", "gauge-02": "level"}
    assert "its group is not whole again" in told_end(house, "gauge-01")[1]
    assert house.journal.states["1", "gauge-01"].place.kept, "it counts as away until a person says otherwise"
    done = house.journal.tapes["1", "gauge-02"][-1].at
    assert done < house.journal.tapes["1", "gauge-01"][-1].at


async def test_nothing_is_written_before_somebody_was_at_the_server(house, monkeypatch):
    with_hands(monkeypatch, hands_before="Pull feed B.")
    house.ticks["gauge-01"] = Help(state=HelpState.PENDING)
    assert await carry(house, "gauge-01") == {"gauge-01": "left over"}
    assert writes_of(house.devices["gauge-01"].log) == []
    ending, words = told_end(house, "gauge-01")
    assert words.startswith("Before bmc") and "Pull feed B. Nobody ticked it within 60 min. Nothing was sent." in words


async def test_every_step_by_hand_is_ticked_once_and_told_with_who_did_it(house, monkeypatch):
    with_hands(monkeypatch, hands_before="Pull feed B.", hands_after="See that its light is green.")
    house.ticks["gauge-01"] = Help(state=HelpState.DONE, by="technician", note="was amber first")
    assert await carry(house, "gauge-01") == {"gauge-01": "level"}
    writes = {(v.planned.write.slot, v.planned.write.to) for v in values(house, "gauge-01", e.WriteIntent)}
    asked = [(v.errand.kind, v.errand.slot, v.errand.to) for v in values(house, "gauge-01", e.ErrandAsked)]
    for kind in (ErrandKind.HANDS_BEFORE, ErrandKind.HANDS_AFTER):
        assert sorted((slot, to) for k, slot, to in asked if k is kind) == sorted(writes)
    told = [tell_entry(value) for value in values(house, "gauge-01", e.ErrandAsked, e.ErrandDone)]
    assert told[0].startswith("asked for a tick: at the server, before bmc") and told[0].endswith("Pull feed B.")
    assert told[1] == "done by technician: was amber first"


async def test_one_that_nobody_looked_at_afterwards_is_marked_for_a_person(house, monkeypatch):
    with_hands(monkeypatch, hands_after="See that its light is green.")
    house.ticks["gauge-01"] = Help(state=HelpState.PENDING)
    assert await carry(house, "gauge-01") == {"gauge-01": "failed"}
    assert "Everything up to there is confirmed by reading." in told_end(house, "gauge-01")[1]


@pytest.mark.parametrize("moment", ["for its work to be moved off", "reboot"])
async def test_a_run_that_is_stopped_leaves_no_work_elsewhere(house, moment):
    house.moves["gauge-01"] = OFF
    house.orders["gauge-01"] = "go"

    def hear(server, state, detail):
        if moment in detail or (moment == "reboot" and errands(house, "gauge-01")):
            house.orders["gauge-01"] = "stop"

    house.listeners.append(hear)
    ends = await carry(house, "gauge-01")
    assert ends["gauge-01"] in ("stopped", "level")
    assert house.desk.where["gauge-01"] == "here"
    check_desk(house, house.devices["gauge-01"], OFF)


async def test_work_is_not_moved_off_while_the_window_is_closed(house):
    start = house.clock.now()
    again = start + datetime.timedelta(hours=20)
    house.windows = ((start, start + datetime.timedelta(seconds=60)), (again, again + datetime.timedelta(hours=6)))
    house.moves["gauge-01"] = OFF
    assert await carry(house, "gauge-01") == {"gauge-01": "level"}
    moved = [entry["at"] for entry in house.desk.log if entry["order"] == "work.move-off"]
    assert min(moved) >= again.timestamp()


@pytest.mark.exhaustive
@pytest.mark.parametrize("when", ["before", "after"])
async def test_an_engine_that_dies_at_any_moment_moves_nothing_twice_and_leaves_nothing_elsewhere(mirror_folder, when):
    steady = make(mirror_folder)
    moves = steady.moves["gauge-01"] = Moves(off=True, healed=True)
    steady.patience = dataclasses.replace(steady.patience, poll_s=40.0)
    for position, house in await deaths(steady, when, lambda house: carry(house, "gauge-01")):
        assert await carry(house, "gauge-01") == {"gauge-01": "level"}, position
        check_desk(house, house.devices["gauge-01"], moves)
        taken_on = [x["order"] for x in house.desk.log if x["what"] == "taken on"]
        assert taken_on == ["work.move-off", "work.take-back", "group.healed"], position


async def test_an_engine_that_was_gone_for_longer_than_it_waits_asks_before_it_gives_up(mirror_folder):
    """Nobody could have told a dead engine that it was done."""
    steady = make(mirror_folder)
    steady.moves["gauge-01"] = OFF
    left = dict(await deaths(steady, "after", lambda house: carry(house, "gauge-01")))
    tape = steady.journal.tapes["1", "gauge-01"]
    for asked in [entry for entry in tape if isinstance(entry.value, e.ErrandAsked)]:
        house = left[asked.seq]
        house.clock.t += 5 * house.patience.errand_s
        assert await carry(house, "gauge-01") == {"gauge-01": "level"}, asked


def test_payloads_carry_what_the_catalog_says_of_hands(mirror_folder):
    house = make(mirror_folder, ("vault-01",))

    async def planned():
        hand = house.hand("vault-01")
        async with hand.open() as controller:
            server = await controller.read(house.clock.now)
        positions = await house.locate(server)
        route, _ = await hand.plan(server)
        return name_payloads(route.rounds, positions)

    writes = [w for r in run(planned()) for w in r.writes]
    assert {w.hands_after for w in writes if w.hands_after} == {"See that the light of each drive bay is green."}
