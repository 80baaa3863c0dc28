"""What a run costs against updating one by one, and the same duties from the rounds of a run."""

from __future__ import annotations

import pytest

from ordnung.core.assessment import assess_fleet
from ordnung.core.away import AwayLimits, AwayPlace
from ordnung.core.catalog import Payload, Release, Wrapping
from ordnung.core.components import Server
from ordnung.core.night.costs import count_costs
from ordnung.core.night.itinerary import duty_of, duty_of_rounds, plan_itinerary
from ordnung.core.night.limits import GroupLimit, NightLimits
from ordnung.core.night.timetable import plan_timetable
from ordnung.core.rules import FIXED_RULES
from ordnung.core.sheet import name_payloads
from tests.core.houses import DAY, REBOOT, RESTART, catalogs, component, product, release
from tests.core.night.nights import a_duty, replay

FREE = NightLimits()


def test_what_shares_a_reset_is_away_once():
    duties = [a_duty("a", (30.0, 30.0, 30.0, REBOOT)), a_duty("b", (30.0, RESTART)), a_duty("level")]
    costs = count_costs(duties, FREE)
    assert (costs.updates, costs.outages, costs.restarts, costs.bytes) == (4, 1, 1, 4000)
    assert (costs.away_seconds, costs.outages_one_by_one, costs.away_seconds_one_by_one) == (120.0, 3, 450.0)
    assert costs.need_a_person == pytest.approx(4 / 200, rel=0.02)
    assert count_costs(duties, FREE, failed_writes=0.0).need_a_person == 0


def test_the_time_away_is_told_for_each_group_the_longest_first():
    duties = [a_duty("a", (30.0, REBOOT), group="pair"), a_duty("b", (5.0, REBOOT), group=("ring", "pair"))]
    duties += [a_duty("c", (5.0, RESTART), group="still")]
    assert list(count_costs(duties, FREE).away_of_groups.items()) == [("pair", 240.0), ("ring", 120.0)]


def test_a_reset_without_a_write_and_an_update_without_a_reset_stay_as_they_are():
    at_once, unknown = Release(version="2", activation="at once", write_seconds=5.0), Release(version="1")
    costs = count_costs([a_duty("a", (unknown, REBOOT), (at_once, REBOOT), (RESTART,))], FREE)
    assert (costs.outages, costs.outages_one_by_one, costs.restarts) == (2, 1, 1)


@pytest.mark.parametrize(
    ("facts", "size"),
    [
        ({}, None),
        ({"payload": Payload(path="a", size=5, sha256="")}, 5),
        ({"wrappings": tuple(Wrapping(bearer=b, payload=Payload(path=b, size=n, sha256="")) for b, n in (("host", 7), ("disc", 9)))}, 9),
    ],
)  # fmt: skip
def test_the_size_of_a_release(facts, size):
    assert Release(version="1", **facts).size == size


def test_the_rounds_of_a_run_tell_the_same_as_the_standing_they_were_made_from():
    bios = product("bios", release("1", reset_seconds=50.0), release("2", reset_seconds=250.0, write_seconds=80.0))
    server = Server(name="s", model="m", components=(component("b", "bios", "1"), component("x", "other", "1")))
    (standing,) = assess_fleet([server], catalogs(bios), FIXED_RULES, DAY)
    place = AwayPlace(server="s")
    told = plan_itinerary(duty_of(standing, place), FREE).steps
    again = duty_of_rounds(place, "m", name_payloads(standing.route.rounds, standing.positions))
    assert [(s.kind, s.seconds) for s in plan_itinerary(again, FREE).steps] == [(s.kind, s.seconds) for s in told]


def test_places_that_are_held_early_are_held_by_one_at_a_time():
    """The engine takes a place before the first reading (docs/adr/0015): a sheet that overlaps them would be wrong."""
    pair = (GroupLimit(name="pair", may_be_away=1),)
    duties = [a_duty(n, (600.0, REBOOT), group="pair") for n in ("g1", "g2")]
    early = NightLimits(groups=pair, holds_early=True)
    timetable = plan_timetable(duties, early)
    replay(timetable, duties, early)
    first, second = timetable.seats
    assert second.placed.begins == first.placed.end and second.placed.aways[0][0] > second.placed.begins
    assert timetable.ratio == 1.0


def test_limits_can_be_tried_with_one_place_more():
    group = GroupLimit(name="pair", may_be_away=1)
    assert group.with_more().may_be_away == 2 and GroupLimit(name="free").with_more().may_be_away is None
    assert NightLimits(groups=(group,)).changed(at_once=3).away == AwayLimits(groups={"pair": 1}, at_once=3)
