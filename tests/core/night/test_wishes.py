"""What a person wishes of the night is kept or refused with the rule, never bent (T11); and which waves are proposed."""

from __future__ import annotations

import dataclasses

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from ordnung.core.night.forecast import forecast
from ordnung.core.night.itinerary import plan_itinerary
from ordnung.core.night.limits import GroupLimit, NightLimits, Wave, Window, Wish
from ordnung.core.night.timetable import WishRefusedError, plan_timetable
from ordnung.core.night.waves import CANARY, HALVES, REST, propose_waves
from tests.core.night.nights import a_duty, nights, replay

REBOOT = "server reboot"
PAIR = (GroupLimit(name="pair", may_be_away=1),)


def seats_of(timetable):
    return {seat.server: seat.placed for seat in timetable.seats}


def test_a_server_begins_no_earlier_than_wished_and_the_forecast_knows_it():
    duties = [a_duty(name, (30.0, REBOOT)) for name in ("a", "b")]
    limits = NightLimits(wishes=(Wish(server="a", at=600.0),))
    timetable = plan_timetable(duties, limits)
    found = seats_of(timetable)
    assert found["a"].begins == 600 and found["b"].begins == 0
    ends = {c.server: c.done.p50 for c in forecast(timetable, limits, samples=50).servers}
    assert ends["a"] > 600 > ends["b"]


def test_a_pinned_server_begins_just_then_and_its_partner_gives_way():
    duties = [a_duty(name, (30.0, REBOOT), group="pair") for name in ("a", "b")]
    plain = seats_of(plan_timetable(duties, NightLimits(groups=PAIR)))
    assert plain["a"].begins == 0
    wishes = (Wish(server="b", at=40.0, pinned=True),)
    found = seats_of(plan_timetable(duties, NightLimits(groups=PAIR, wishes=wishes)))
    assert found["b"].begins == 40 and found["a"].begins >= 40 + 30


@pytest.mark.parametrize(
    ("limits", "says"),
    [
        ({"groups": PAIR}, "group pair allows 1 away"),
        ({"racks": {"K1": 1}}, "rack K1 allows 1 away"),
        ({"rooms": {"Kelp": 1}}, "room Kelp allows 1 away"),
        ({"groups": (GroupLimit(name="pair", may_be_away=2),), "racks": {"K1": 1}}, "rack K1 allows 1 away"),
        ({"at_once": 1}, "1 servers are worked on at once"),
        ({"windows": (Window(0.0, 60.0),)}, "the window ends"),
        ({"windows": (Window(500.0, 9000.0),)}, "no window is open"),
        ({"waves": (Wave(name="one", servers=("a",)), Wave(name="two", servers=("b",)))}, "its wave begins"),
    ],
)
def test_a_pin_that_a_rule_forbids_is_refused_with_the_rule(limits, says):
    duties = [a_duty(name, (30.0, REBOOT), group="pair", rack="K1", room="Kelp") for name in ("a", "b")]
    wishes = (Wish(server="a", at=0.0, pinned=True), Wish(server="b", at=20.0, pinned=True))
    with pytest.raises(WishRefusedError) as refused:
        plan_timetable(duties, NightLimits(**limits, wishes=wishes))
    assert says in refused.value.why


@given(nights(most=5))
@settings(max_examples=30, deadline=None)
def test_itineraries_that_are_at_hand_are_laid_as_their_duties_are(night):
    duties, limits = night
    made = [plan_itinerary(duty, limits) for duty in duties if duty.route.rounds]
    again, plain = (plan_timetable(what, limits, tries=2) for what in (made, duties))
    assert {s: p.starts for s, p in seats_of(again).items()} == {s: p.starts for s, p in seats_of(plain).items()}
    assert again.left == plain.left and again.bound == plain.bound


def test_a_wave_begins_no_earlier_than_wished():
    duties = [a_duty(name, (30.0, None)) for name in ("a", "b")]
    waves = (Wave(name="one", servers=("a",)), Wave(name="two", servers=None, not_before=900.0))
    limits = NightLimits(waves=waves)
    timetable = plan_timetable(duties, limits)
    assert seats_of(timetable)["b"].begins == 900
    assert forecast(timetable, limits, samples=20).end.p50 > 900


@pytest.mark.exhaustive
@given(nights(), st.data())
@settings(max_examples=80, deadline=None)
def test_wishes_are_kept_to_the_second_or_refused_and_no_limit_is_bent_for_them(night, data):
    duties, limits = night
    chosen = data.draw(st.lists(st.sampled_from([d.server for d in duties]), unique=True, max_size=3))
    drawn = [(s, data.draw(st.sampled_from([0.0, 50.0, 400.0, 2000.0])), data.draw(st.booleans())) for s in chosen]
    limits = dataclasses.replace(limits, wishes=tuple(Wish(server=s, at=at, pinned=p) for s, at, p in drawn))
    try:
        timetable = plan_timetable(duties, limits, tries=3)
    except WishRefusedError:
        return
    replay(timetable, duties, limits)
    found = seats_of(timetable)
    for server, at, pinned in drawn:
        if server in found:
            assert found[server].begins == at if pinned else found[server].begins >= at


def test_waves_are_proposed_with_one_of_each_kind_first_and_half_of_each_group_next():
    duties = [a_duty(f"tide-{n}", (30.0, REBOOT), group="ring", model="Tern") for n in range(6)]
    duties += [a_duty(f"reed-{n}", (60.0, REBOOT), model="Reed") for n in range(2)]
    waves = {wave.name: wave for wave in propose_waves(reversed(duties))}
    assert waves[CANARY].servers == ("reed-0", "tide-0") and waves[CANARY].gate == "person"
    assert waves[HALVES].servers == ("tide-1", "tide-2")
    assert waves[REST].servers == ("reed-1", "tide-3", "tide-4", "tide-5")


@given(nights(most=8))
@settings(max_examples=40, deadline=None)
def test_every_server_with_work_is_in_one_proposed_wave_and_half_of_a_group_is_kept_back(night):
    duties, _ = night
    working = [d for d in duties if d.route.rounds]
    waves = propose_waves(duties)
    assume(waves)
    named = [name for wave in waves for name in wave.servers]
    assert sorted(named) == sorted(d.server for d in working)
    by_name = {wave.name: set(wave.servers) for wave in waves}
    for group in {g for d in working for g in d.place.groups}:
        members = {d.server for d in working if group in d.place.groups}
        first = by_name.get(CANARY, set()) & members
        # A server in two groups may have been taken for the other one.
        if all(len(d.place.groups) == 1 for d in working if d.server in members):
            assert len(by_name.get(HALVES, set()) & members) <= max(0, len(members) // 2 - len(first))


def test_no_waves_are_proposed_where_nothing_can_be_learnt_from_the_first():
    assert propose_waves([a_duty(f"s{n}", (30.0, REBOOT)) for n in range(3)]) == ()
    assert propose_waves([a_duty(f"s{n}", (float(n + 5), REBOOT), model=f"m{n}") for n in range(5)]) == ()
