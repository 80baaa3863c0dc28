"""What is packed and why; who may go away."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.assessment import assess_fleet
from ordnung.core.away import AwayLimits, AwayPlace, may_begin
from ordnung.core.components import Server
from ordnung.core.facts import Facts
from ordnung.core.foresee import foreseen
from ordnung.core.packing import plan_packing, ways_back
from ordnung.core.rules import FIXED_RULES, Rule
from tests.core.houses import DAY, RESTART, catalogs, component, product, release

BIOS = product("bios", release("2.1.0"), release("2.4.1"), release("3.2.0", direct_from="2.4.1", floor_after="2.4.1"))
RAID = product("raid", release("7.1"), release("7.2"))


def packed(*components):
    server = Server(name="s", model="m", components=components)
    lines = plan_packing(assess_fleet([server], catalogs(BIOS, RAID), FIXED_RULES, DAY))
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


def place(name, group=None, **facts):
    return AwayPlace(server=name, groups=(group,) if group else (), **facts)


AWAY = [place("g1", "pair", rack="K1", room="Kelp"), place("s1", rack="K1", outage=False), place("s2", kept=True)]
LIMITS = AwayLimits(groups={"pair": 1, "none": 0}, racks={"K1": 1}, rooms={"Kelp": 2}, at_once=3)


@pytest.mark.parametrize(
    ("wanted", "limit", "kept"),
    [
        (place("g2", "pair"), "group", False),
        (place("g2", "pair", outage=False), None, None),
        (place("g1", "pair"), None, None),  # it has a place already
        (place("x", rack="K1"), "rack", False),
        (place("x", rack="K2", room="Kelp"), None, None),
        (place("x", "none"), "group", True),
        (place("x"), None, None),
    ],
)
def test_who_may_begin(wanted, limit, kept):
    refusal = may_begin(AWAY, LIMITS, wanted)
    assert (refusal.limit if refusal else None, refusal.kept if refusal else None) == (limit, kept)
    assert refusal is None or str(refusal)


def test_a_server_left_away_counts_in_its_group_but_not_among_those_at_once():
    """A failure while away once gave the place back, and its partner was rebooted."""
    left = [place(f"k{n}", "pair", kept=True) for n in range(5)]
    assert may_begin(left, LIMITS, place("x")) is None
    refusal = may_begin(left, LIMITS, place("x", "pair"))
    assert refusal is not None and refusal.kept and "k0, k1" in str(refusal) and "left away" in str(refusal)
    full = [place(f"w{n}") for n in range(3)]
    assert may_begin(full, LIMITS, place("x")).limit == "at once"


# What an old server will take once its controller is updated


def old_server(**facts):
    parts = (
        dataclasses.replace(component("c", "controller", "1.0"), kind="controller"),
        component("b", "bios", "2.1.0", updateable=False),
        dataclasses.replace(component("r", "raid", "7.1", updateable=False), kind="raid", software_id=None),
        dataclasses.replace(component("x", "raid", "0.1", updateable=False), kind="raid", software_id=None),
    )
    return Server(name="sump", model="m", components=parts, facts=Facts(push="own", **facts))


def test_what_will_probably_become_possible_is_packed_beforehand():
    """sump-01 went no further after its controller: nothing more was packed."""
    controller = product("controller", release("1.0"), release("1.30", activation=RESTART), kind="controller")
    lists = catalogs(controller, BIOS, dataclasses.replace(RAID, kind="raid"))
    before = assess_fleet([old_server()], lists, FIXED_RULES, DAY)
    assert {w.slot for w in before[0].route.writes} == {"c"}
    later = foreseen(before, lists, FIXED_RULES, DAY)
    told = {line.name: line.reasons for line in plan_packing([*before, *later])}
    assert {name for name, reasons in told.items() if "target" in reasons} == {
        ("controller", "1.30"), ("bios", "3.2.0"), ("raid", "7.2"),
    }  # fmt: skip
    able = assess_fleet([old_server(pulls=("HTTP",))], lists, FIXED_RULES, DAY)
    assert foreseen(able, lists, FIXED_RULES, DAY) == ()


@pytest.mark.parametrize(
    ("rule", "known"),
    [({"do": "hold"}, True), ({"do": "follow"}, False)],
    ids=["a controller that is held", "parts that several products may be"],
)
def test_nothing_is_foreseen_on_a_guess(rule, known):
    controller = product("controller", release("1.0"), release("1.30", activation=RESTART), kind="controller")
    raid = dataclasses.replace(RAID, kind="raid")
    twin = dataclasses.replace(raid, id="twin", fits=({"software_id": "twin"},))
    lists = catalogs(controller, BIOS, raid, *(() if known else (twin,)))
    rules = (Rule(where={"product": ("controller",)}, **rule), *FIXED_RULES)
    later = foreseen(assess_fleet([old_server()], lists, rules, DAY), lists, rules, DAY)
    assert {w.slot for standing in later for w in standing.route.writes} <= {"b"}
    assert bool(later) is not known


def test_a_full_house_and_an_empty_group_are_said_in_words():
    full = [place(f"w{n}") for n in range(3)]
    assert str(may_begin(full, LIMITS, place("x"))) == "3 servers are worked on already"
