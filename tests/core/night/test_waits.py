"""Every gap of a timetable is told with what was full until then, and that is true."""

from __future__ import annotations

import dataclasses
import random
import re

from hypothesis import given, settings

from ordnung.core.away import limits_of
from ordnung.core.night.limits import GroupLimit, NightLimits, Wave, Window, Wish
from ordnung.core.night.placing import Placed
from ordnung.core.night.timetable import Timetable, plan_timetable
from ordnung.core.night.waits import tell_waits
from tests.core.night.nights import a_duty, nights

REBOOT = "server reboot"


def waits_of(duties, **limits):
    night = NightLimits(**limits)
    found = tell_waits(plan_timetable(duties, night), night)
    return {server: [(w.start, w.end, w.why) for w in waits] for server, waits in found.items()}


def test_a_partner_is_waited_for_and_who_it_is_is_told():
    duties = [a_duty(name, (30.0, REBOOT), group="pair") for name in ("a", "b")]
    found = waits_of(duties, groups=(GroupLimit(name="pair", may_be_away=1, heal_seconds=60.0),), holds_early=True)
    assert found["a"] == []
    ((start, end, why),) = found["b"]
    assert start == 0 and end > 60 and why == "for a: group pair allows 1 away"


def test_those_at_once_the_link_waves_windows_and_wishes_are_told():
    duties = [a_duty(name, (30.0, REBOOT)) for name in ("a", "b")]
    assert waits_of(duties, at_once=1)["b"][0][2] == "for a: 1 servers at once"
    assert waits_of(duties, transfers=1)["b"][0][2] == "for a: 1 transfers at once"
    waves = (Wave(name="one", servers=("a",), wait_seconds=120.0), Wave(name="two", servers=("b",)))
    assert waits_of(duties, waves=waves)["b"][0][2] == "for one to be done and 2 min"
    later = (Wave(name="one", servers=("a", "b"), not_before=500.0),)
    assert waits_of(duties, waves=later)["a"] == [(0.0, 500.0, "for the time that was wished")]
    assert waits_of(duties, windows=(Window(50.0, 9000.0),))["a"] == [(0.0, 50.0, "for the window to open")]
    assert waits_of(duties, wishes=(Wish(server="a", at=70.0),))["a"] == [(0.0, 70.0, "for the time that was wished")]


@given(nights())
@settings(max_examples=80, deadline=None)
def test_every_gap_is_told_and_who_is_named_held_what_is_named_until_then(night):
    duties, limits = night
    timetable = plan_timetable(duties, limits, tries=2)
    found = tell_waits(timetable, limits)
    seats = {seat.server: seat.placed for seat in timetable.seats}
    for server, waits in found.items():
        placed = seats[server]
        gaps = sum(w.end - w.start for w in waits)
        idle = placed.end - sum(s.seconds for s in placed.itinerary.steps[placed.itinerary.ahead :])
        released = idle - gaps  # what is left is the time before its wave could begin
        assert released >= -1e-6
        for wait in waits:
            assert wait.start < wait.end <= placed.end
            named = re.match(r"for (\S+): (group|rack|room) (\S+) allows", wait.why)
            if named:
                who, kind, name = named.groups()
                other = seats[who]
                assert who != server
                assert (kind, name) in [(k, n) for k, n, _ in limits_of(other.itinerary.place, limits.away)]


def test_a_gap_half_way_is_told_too():
    """Nights made by a seed, so that such gaps are always among them."""
    whys, half_way = set(), 0
    for seed in range(40):
        dice = random.Random(seed)
        duties = [
            a_duty(f"s{n}", *[(float(dice.randrange(5, 400, 7)), dice.choice([REBOOT, "controller restart"])) for _ in range(2)],
                   group=dice.choice(["a", "b", ("a", "b")]))
            for n in range(9)
        ]  # fmt: skip
        groups = (GroupLimit(name="a", may_be_away=2), GroupLimit(name="b", may_be_away=1, between=True))
        night = NightLimits(groups=groups, transfers=1, at_once=3)
        timetable = plan_timetable(duties, night, tries=2)
        begins = {seat.server: seat.placed.begins for seat in timetable.seats}
        for server, waits in tell_waits(timetable, night).items():
            whys |= {re.sub(r"for \S+:", "for", wait.why) for wait in waits}
            half_way += sum(wait.start > begins[server] for wait in waits)
    assert half_way and whys == {
        "for 1 transfers at once", "for 3 servers at once", "for group a allows 2 away", "for group b allows 1 away",
    }  # fmt: skip


def test_a_gap_that_no_single_server_accounts_for_is_told_as_such():
    night = NightLimits()
    (seat,) = plan_timetable([a_duty("a", (30.0, REBOOT))], night).seats
    late = Placed(seat.placed.itinerary, tuple(start + 60.0 for start in seat.placed.starts))
    found = tell_waits(Timetable(seats=(dataclasses.replace(seat, placed=late),), left=(), bound=0.0), night)
    assert [w.why for w in found["a"]] == ["for a place that is free for as long as it needs it"]
