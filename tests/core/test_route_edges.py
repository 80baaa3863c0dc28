"""The route at its edges: what can't be ordered, read or decided, and searches that grow too large."""

from __future__ import annotations

import pytest

from ordnung.core import route as routes
from ordnung.core import route_search
from ordnung.core.catalog import Need, Payload, Release
from ordnung.core.detours import go_alone, go_between, release_between
from ordnung.core.route import plan_route, plan_way_back
from tests.core.houses import ONCE, POWER, REBOOT, RESTART, component, positions, product, release, shape


def plan(products, components, rules=()):
    return plan_route(positions(products, components, rules))


def reasons(route):
    return {lost.slot: lost.reason for lost in route.stranded}


def excluding(name: str, *others: str):
    """A product whose newest release wants the others to stay below theirs."""
    needs = tuple(Need(product=other, below="2.0") for other in others)
    return product(name, release("1.0"), Release(version="2.0", activation=REBOOT, needs=needs))


def test_a_need_of_what_could_not_be_read_says_so():
    bios = product("bios", release("1.0"), release("2.0", needs={"bmc": "5.0"}))
    bmc = product("bmc", release("5.0", RESTART))
    route = plan([bios, bmc], [component("bios", "bios", "1.0"), component("bmc", "bmc", None)])
    assert reasons(route) == {"bios": "bios 2.0 needs bmc 5.0, which could not be read"}


def test_of_several_needs_the_one_that_fails_is_named():
    needs = (Need(product="nic", at_least="1.0"), Need(product="bmc", at_least="5.0"), Need(product="bmc", below="5.1"))
    bios = product("bios", release("1.0"), Release(version="2.0", activation=REBOOT, needs=needs))
    bmc = product("bmc", release("6.0", RESTART))
    parts = [component("bios", "bios", "1.0"), component("bmc", "bmc", "6.0"), component("nic", "nic", "1.0")]
    route = plan([bios, bmc, product("nic", release("1.0"))], parts)
    assert reasons(route) == {"bios": "bios 2.0 needs bmc below 5.1, which stays at 6.0"}


def test_a_gap_is_named_past_a_stop_that_can_be_reached():
    bios = product("bios", release("1.0"), release("2.0", direct_from="1.0"), release("4.0", direct_from="3.0"))
    route = plan([bios], [component("bios", "bios", "1.0")])
    assert reasons(route) == {"bios": "the catalog lacks a release of bios between 2.0 and 3.0"}


def test_versions_that_no_scheme_orders_lead_nowhere():
    bios = product("bios", release("1.0"), release("2.0"))
    route = plan([bios], [component("bios", "bios", "spring", waiting="summer")])
    assert reasons(route) == {"bios": "the catalog has no release of bios that leads on from spring"}


def test_a_way_back_to_what_no_catalog_lists_is_refused_by_name():
    bios = product("bios", release("2.0"))
    parts = [component("bios", "bios", "2.0"), component("fan", "nothing-knows", "3")]
    route = plan_way_back(positions([bios], parts), {"bios": "1.0", "fan": "2"})
    assert reasons(route) == {
        "bios": "the catalog lacks bios 1.0",
        "fan": "it is in no catalog, so its way back is not known",
    }


def test_a_way_back_does_not_rest_on_a_release_that_bars_the_rest_of_it():
    bios = product("bios", release("1.0"), release("2.0", floor_after="2.0"), release("3.0"))
    route = plan_way_back(positions([bios], [component("bios", "bios", "3.0")]), {"bios": "1.0"})
    assert shape(route) == [(["bios>1.0"], REBOOT)]


def test_a_way_back_that_another_component_bars_says_which_one_needs_what():
    """R24. It said that "the others" could not move, where there were none."""
    bios = product("bios", release("1.0"), release("2.0", needs={"nic": "1.0", "bmc": "5.0"}))
    bmc = product("bmc", release("4.0", RESTART), release("5.0", RESTART), release("6.0", RESTART))
    parts = [component("bios", "bios", "2.0"), component("bmc", "bmc", "6.0"), component("nic", "nic", "1.0")]
    known = positions([bios, bmc, product("nic", release("1.0"))], [*parts, component("card", "nothing-knows", "7")])
    assert reasons(plan_way_back(known, {"bmc": "4.0"})) == {"bmc": "bios 2.0 needs bmc 5.0: take that back first"}
    assert reasons(plan_way_back(known, {"bmc": "5.0"})) == {}
    both = plan_way_back(known, {"bmc": "4.0", "bios": "1.0"})
    assert reasons(both) == {} and len(both.writes) == 2


def test_ways_back_that_exclude_each_other_keep_the_plain_reason():
    bios = product("bios", release("1.0", needs={"bmc": "5.0"}), release("2.0"))
    bmc = product("bmc", release("4.0", RESTART), release("5.0", RESTART))
    parts = [component("bios", "bios", "2.0"), component("bmc", "bmc", "5.0")]
    (reason,) = reasons(plan_way_back(positions([bios, bmc], parts), {"bmc": "4.0", "bios": "1.0"})).values()
    assert reason.startswith("the others can't move")


def test_what_waits_for_a_reset_is_not_taken_for_back_already():
    """It said that nothing was to be done, and the next reset made it active all the same (R4)."""
    bios = product("bios", release("1.0"), release("2.0"))
    route = plan_way_back(positions([bios], [component("bios", "bios", "1.0", waiting="2.0")]), {"bios": "1.0"})
    assert reasons(route) == {"bios": "2.0 waits for a reset; once that has made it active, it can be taken back"}
    again = plan_way_back(positions([bios], [component("bios", "bios", "1.0", waiting="1.0")]), {"bios": "1.0"})
    assert reasons(again) == {} and not again.rounds


def test_what_is_back_already_is_not_barred_by_what_no_catalog_knows():
    bios = product("bios", release("2.0"))
    parts = [component("bios", "bios", "1.0"), component("fan", "nothing-knows", "3")]
    route = plan_way_back(positions([bios], parts), {"bios": "1.0", "fan": " 3"})
    assert reasons(route) == {} and not route.rounds
    waits = positions([bios], [component("fan", "nothing-knows", "3", waiting="4")])
    assert reasons(plan_way_back(waits, {"fan": "3"})) == {"fan": "it is in no catalog, so its way back is not known"}


def test_something_waiting_in_what_is_unlisted_shares_the_reset_and_is_not_written():
    bios = product("bios", release("1.0"), release("2.0"))
    parts = [component("bios", "bios", "1.0"), component("card", "nothing-knows", "7", waiting="8")]
    route = plan([bios], parts)
    assert shape(route) == [(["bios>2.0"], REBOOT)]
    same = [component("bios", "bios", "1.0"), component("card", "nothing-knows", "7", waiting=" 7 ")]
    assert shape(plan([bios], same)) == [(["bios>2.0"], REBOOT)]


def test_r12_beyond_the_limit_all_that_exclude_each_other_stay(monkeypatch):
    monkeypatch.setattr(routes, "REMOVAL_LIMIT", 1)
    names = ("one", "two", "three")
    products = [excluding(name, *(other for other in names if other != name)) for name in names]
    route = plan(products, [component(name, name, "1.0") for name in names])
    assert route.rounds == () and set(reasons(route)) == set(names)


def test_r12_of_three_that_exclude_each_other_two_stay():
    names = ("one", "two", "three")
    products = [excluding(name, *(other for other in names if other != name)) for name in names]
    route = plan(products, [component(name, name, "1.0") for name in names])
    assert sorted(reasons(route)) == ["one", "three"] and shape(route) == [(["two>2.0"], REBOOT)]


@pytest.mark.parametrize("budget", [0, 1])
def test_where_the_ties_are_too_many_any_best_route_serves(monkeypatch, budget):
    monkeypatch.setattr(route_search, "TIE_LIMIT", budget)
    bios = product("bios", release("1.0"), release("1.4"), release("1.5"), release("2.0", direct_from="1.4"))
    route = plan([bios], [component("bios", "bios", "1.0")])
    assert route.outages == 2 and route.proven


def test_r17_a_write_stays_where_its_needs_hold_when_they_fail_in_the_round_that_makes_it_active():
    """An older version waits in one of three alike: its reset takes away for a while what the others need."""
    plane = product(
        "plane",
        release("1", REBOOT),
        release("2", POWER),
        release("3", REBOOT, direct_from="2"),
        release("4", POWER, needs={"plane": "2"}),
    )
    parts = [component("a", "plane", "3"), component("b", "plane", "3"), component("c", "plane", "4", waiting="1")]
    route = plan([plane], parts)
    assert shape(route) == [(["a>4", "b>4"], REBOOT), (["c>2"], POWER), (["c>4"], POWER)]


def test_a_state_that_a_cheaper_way_reached_meanwhile_is_looked_at_once():
    first = product(
        "first",
        release("1", POWER),
        release("2", RESTART, needs={"first": "2"}),
        release("3", POWER),
        Release(version="4", activation=REBOOT, needs=(Need(product="second", below="3"),)),
    )
    second = product("second", release("1", POWER, needs={"second": "2"}), release("2"), release("3", ONCE, alone=True))
    parts = [component("a", "second", "1"), component("b", "first", "1", waiting="3")]
    route = plan([first, second], parts)
    assert list(reasons(route)) == ["b"] and shape(route)[0][1] == POWER


def test_a_state_from_which_no_best_route_leads_on_is_tried_once():
    first = product(
        "first",
        release("1", REBOOT, needs={"first": "1"}),
        Release(version="2", activation=None, direct_from="1", needs=(Need(product="first", below="3"),), alone=True),
    )
    second = product("second", release("1", RESTART, needs={"second": "3"}), release("2", None, direct_from="1"))
    parts = [component("a", "second", "2"), component("b", "second", "1"), component("c", "first", "2", waiting="1")]
    assert shape(plan([first, second], parts)) == [(["b>2"], POWER), (["c>2"], POWER)]


def test_one_component_is_planned_alone_and_what_is_in_no_catalog_stays_as_it_is():
    products = [product(name, release("1.0", REBOOT), release("2.0", REBOOT)) for name in ("bios", "nic")]
    parts = [component("bios", "bios", "1.0"), component("nic", "nic", "1.0"), component("odd", "nobody's", "7")]
    found = positions(products, parts, ())
    together, apart = plan_route(found), plan_route(go_alone(found, {"nic", "odd"}))
    assert [[w.slot for w in step.writes] for step in together.rounds] == [["bios", "nic"]]
    assert sorted([w.slot for w in step.writes] for step in apart.rounds) == [["bios"], ["nic"]]
    assert apart.outages == 2 and go_alone(found, frozenset()) == tuple(found)


FILE = Payload(path="p", size=4, sha256="ab" * 32)
RELEASES = (
    release("1.0", payload=FILE), release("1.5", payload=FILE), release("1.8"), release("2.0", payload=FILE),
)  # fmt: skip


def test_a_release_between_is_the_newest_with_a_file_below_the_one_that_is_not_taken():
    (found,) = positions([product("bios", *RELEASES)], [component("bios", "bios", "1.0")], ())
    assert release_between(found, "2.0").version == "1.5"
    assert release_between(found, "1.5") is None and release_between(found, "1.0") is None
    (odd,) = positions([product("bios", *RELEASES)], [component("odd", "nobody's", "1.0")], ())
    assert release_between(odd, "2.0") is None


def test_a_component_goes_by_a_release_more_and_the_others_as_they_went():
    products = [product("bios", *RELEASES), product("nic", release("1.0", REBOOT), release("2.0", REBOOT))]
    found = positions(products, [component("bios", "bios", "1.0"), component("nic", "nic", "1.0")], ())
    stepped = plan_route(go_between(found, {"bios": "2.0"}))
    assert [(w.slot, w.to) for w in stepped.writes if w.slot == "bios"] == [("bios", "1.5"), ("bios", "2.0")]
    assert [(w.slot, w.to) for w in stepped.writes if w.slot == "nic"] == [("nic", "2.0")]
    assert go_between(found, {}) == tuple(found) == go_between(found, {"nic": "2.0"}), "nic has none between"
    assert go_between(found, {"bios": "9"}) == tuple(found), "a version that nobody made"
