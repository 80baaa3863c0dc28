"""What is packed and why; when each server's turn comes."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.components import Server
from ordnung.core.house import judge_house
from ordnung.core.packing import plan_packing, ways_back
from ordnung.core.route import Round, Route, Write
from ordnung.core.rules import FIXED_RULES
from ordnung.core.timetable import itinerary, plan_timetable
from tests.core.houses import DAY, REBOOT, RESTART, catalogs, component, product, release

BIOS = product("bios", release("2.1.0"), release("2.4.1"), release("3.2.0", direct_from="2.4.1", floor_after="2.4.1"))
RAID = product("raid", release("7.1"), release("7.2"))


def packed(*components):
    server = Server(name="s", model="m", components=components)
    lines = plan_packing(judge_house([server], catalogs(BIOS, RAID), FIXED_RULES, DAY))
    return {(line.product.id, line.release.version): line.reasons for line in lines}


def test_targets_stops_and_ways_back_and_nothing_else():
    found = packed(component("b", "bios", "2.1.0"), component("r", "raid", "7.1"))
    assert found == {
        ("bios", "2.4.1"): ("must stop", "way back"),
        ("bios", "3.2.0"): ("target",),
        ("raid", "7.1"): ("way back",),
        ("raid", "7.2"): ("target",),
    }


def test_a_level_server_needs_nothing():
    assert packed(component("b", "bios", "3.2.0"), component("r", "raid", "7.2")) == {}


def test_ways_back_stop_at_the_floor():
    assert ways_back(BIOS, ["2.1.0", "2.4.1", "3.2.0"]) == ["2.4.1"]
    assert ways_back(BIOS, ["2.1.0", "3.2.0"]) == []
    assert ways_back(RAID, ["7.1", "7.2"]) == ["7.1"]


def a_route(seconds: float, reset: str | None = REBOOT) -> Route:
    write = Write(slot="x", product="p", source="1", to="2", seconds=seconds)
    return Route(rounds=(Round(writes=(write,), reset=reset, reset_seconds=300),), outages=1)


def test_an_itinerary_has_staging_writing_reset_and_check():
    assert [s.kind for s in itinerary(a_route(60, RESTART))] == ["staging", "writing", RESTART, "checking"]


def test_a_pair_goes_one_after_the_other_while_others_fill_the_places():
    routes = [("g1", "pair", a_route(600)), ("g2", "pair", a_route(600)), ("s1", None, a_route(60))]
    lanes = {lane.server: lane for lane in plan_timetable(routes, {"pair": 1}, 2).lanes}
    assert lanes["g2"].spans[0].start == lanes["g1"].end
    assert lanes["s1"].spans[0].start == 0


@given(
    st.lists(st.tuples(st.integers(1, 900), st.sampled_from(["a", "b", None])), min_size=1, max_size=25),
    st.integers(1, 5),
)
def test_no_limit_is_ever_broken_and_the_bound_holds(servers, at_once):
    routes = [(f"s{i}", group, a_route(seconds)) for i, (seconds, group) in enumerate(servers)]
    limits = {"a": 1, "b": 2}
    timetable = plan_timetable(routes, limits, at_once)
    assert timetable.makespan >= timetable.bound - 1e-6
    groups = {name: group for name, group, _ in routes}
    for lane in timetable.lanes:
        start = lane.spans[0].start
        busy = [other for other in timetable.lanes if other.spans[0].start <= start < other.end]
        assert len(busy) <= at_once
        for group, limit in limits.items():
            assert sum(groups[other.server] == group for other in busy) <= limit
