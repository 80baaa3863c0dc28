"""The worked cases of planning.md and the planning rules, by name."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.route import plan_route, plan_way_back
from ordnung.core.rules import Rule
from tests.core.houses import (
    ONCE,
    POWER,
    REBOOT,
    RESTART,
    component,
    positions,
    product,
    release,
    shape,
)

BIOS = product("bios", release("2.1.0"), release("2.4.1"), release("3.2.0", direct_from="2.4.1"))
RAID = product("raid", release("7.16.1"), release("7.18.0"))
NIC = product("nic", release("24.1"), release("24.2"))
HELD = (Rule(do="hold", where={"product": ("bmc",)}),)


def needy_bios(controller: str = "5.30.0"):
    return product(
        "bios",
        release("2.1.0"),
        release("2.4.1"),
        release("3.2.0", direct_from="2.4.1", needs={"bmc": controller}),
    )


BMC = product("bmc", release("5.10.2", RESTART), release("5.30.0", RESTART))


def plan(products, components, rules=()):
    return plan_route(positions(products, components, rules))


def test_case_1_a_must_stop_costs_a_second_reboot():
    route = plan([BIOS], [component("bios", "bios", "2.1.0")])
    assert shape(route) == [(["bios>2.4.1"], REBOOT), (["bios>3.2.0"], REBOOT)]
    assert (route.outages, route.proven, route.bound_outages) == (2, True, 2)


def test_case_2_others_ride_with_the_first_round():
    parts = [
        component("bios", "bios", "2.1.0"),
        component("raid", "raid", "7.16.1"),
        component("nic", "nic", "24.1"),
    ]
    assert shape(plan([BIOS, RAID, NIC], parts)) == [
        (["bios>2.4.1", "nic>24.2", "raid>7.18.0"], REBOOT),
        (["bios>3.2.0"], REBOOT),
    ]


def test_case_3_the_controller_has_a_round_of_its_own_first():
    parts = [
        component("bios", "bios", "2.1.0"),
        component("bmc", "bmc", "5.10.2"),
        component("nic", "nic", "24.1"),
        component("raid", "raid", "7.16.1"),
    ]
    route = plan([needy_bios(), BMC, RAID, NIC], parts)
    assert shape(route) == [
        (["bmc>5.30.0"], RESTART),
        (["bios>2.4.1", "nic>24.2", "raid>7.18.0"], REBOOT),
        (["bios>3.2.0"], REBOOT),
    ]
    assert (route.outages, route.restarts) == (2, 1)


def test_case_4_bios_controller_bios():
    controller = product("bmc", release("5.10.2", RESTART), release("5.30.0", RESTART, needs={"bios": "2.4.1"}))
    route = plan([needy_bios(), controller], [component("bios", "bios", "2.1.0"), component("bmc", "bmc", "5.10.2")])
    assert shape(route) == [(["bios>2.4.1"], REBOOT), (["bmc>5.30.0"], RESTART), (["bios>3.2.0"], REBOOT)]


def test_case_5_a_power_cycle_serves_the_bios_too():
    plane = product("plane", release("1.0", POWER), release("1.1", POWER))
    route = plan([RAID, plane], [component("raid", "raid", "7.16.1"), component("plane", "plane", "1.0")])
    assert shape(route) == [(["plane>1.1", "raid>7.18.0"], POWER)]
    assert (route.outages, route.power_cycles) == (1, 1)


def test_case_6_drives_at_once_need_no_reset():
    drive = product("drive", release("GX02", ONCE), release("GX04", ONCE), scheme="listed")
    parts = [component(f"drive-{n}", "drive", "GX02" if n in (3, 5) else "GX04") for n in range(8)]
    assert shape(plan([drive], parts)) == [(["drive-3>GX04", "drive-5>GX04"], None)]


def test_case_7_a_release_alone_pays_its_own_reboot():
    single = product("single", release("1.0"), release("1.1", alone=True))
    parts = [
        component("single", "single", "1.0"),
        component("raid", "raid", "7.16.1"),
        component("nic", "nic", "24.1"),
    ]
    route = plan([single, RAID, NIC], parts)
    assert route.outages == 2
    assert sorted(len(r.writes) for r in route.rounds) == [1, 2]


def test_case_8_a_held_controller_strands_the_bios_only():
    parts = [
        component("bios", "bios", "2.1.0"),
        component("bmc", "bmc", "5.10.2"),
        component("nic", "nic", "24.1"),
        component("raid", "raid", "7.16.1"),
    ]
    route = plan([needy_bios(), BMC, RAID, NIC], parts, HELD)
    assert shape(route) == [(["nic>24.2", "raid>7.18.0"], REBOOT)]
    assert [lost.slot for lost in route.stranded] == ["bios"]
    needs = "bios 3.2.0 needs bmc 5.30.0, which is held at 5.10.2 by rule 1"
    assert route.stranded[0].reason == needs
    (rule,) = HELD
    why = dataclasses.replace(rule, reason="newer ones lose the fans")
    later = plan([needy_bios(), BMC, RAID, NIC], parts, (Rule(do="take"), why))
    assert later.stranded == ()
    told = plan([needy_bios(), BMC, RAID, NIC], parts, (why, Rule(do="take")))
    assert told.stranded[0].reason == f"{needs}, newer ones lose the fans"


def test_case_9_circular_needs_name_both():
    one = product("one", release("1.0"), release("2.0", needs={"two": "2.0"}))
    two = product("two", release("1.0"), release("2.0", needs={"one": "2.0"}))
    route = plan([one, two], [component("a", "one", "1.0"), component("b", "two", "1.0")])
    assert route.rounds == () and [lost.slot for lost in route.stranded] == ["a", "b"]
    assert "two 2.0" in route.stranded[0].reason and "one 2.0" in route.stranded[1].reason


def test_a_gap_in_the_catalog_is_named():
    gap = product("bios", release("2.1.0"), release("3.2.0", direct_from="2.4.1"))
    route = plan([gap], [component("bios", "bios", "2.1.0")])
    assert route.stranded[0].reason == "the catalog lacks a release of bios between 2.1.0 and 2.4.1"


def test_r2b_equal_parts_alone_pay_each_their_reboot():
    single = product("nic", release("1.0"), release("1.1", alone=True))
    route = plan([single], [component("nic-1", "nic", "1.0"), component("nic-2", "nic", "1.0")])
    assert shape(route) == [(["nic-1>1.1"], REBOOT), (["nic-2>1.1"], REBOOT)]


def test_r3_unknown_activation_takes_a_power_cycle():
    vague = product("x", release("1.0", None), release("1.1", None))
    assert shape(plan([vague], [component("x", "x", "1.0")])) == [(["x>1.1"], POWER)]


def test_r4_a_waiting_version_only_needs_its_reset():
    route = plan([RAID], [component("raid", "raid", "7.16.1", waiting="7.18.0")])
    assert shape(route) == [([], REBOOT)]


def test_r6_a_waiting_version_on_a_held_component_asks_for_nothing():
    route = plan([BMC], [component("bmc", "bmc", "5.10.2", waiting="5.30.0")], HELD)
    assert route.rounds == ()


def test_r7_a_reset_may_not_break_a_need():
    """The waiting controller would lose the BIOS it needs: BIOS and controller become active together."""
    bmc = product("bmc", release("1.0", REBOOT), release("2.0", REBOOT, needs={"bios": "2.4.1"}))
    parts = [component("bios", "bios", "2.1.0"), component("bmc", "bmc", "1.0", waiting="2.0")]
    route = plan([product("bios", release("2.1.0"), release("2.4.1")), bmc], parts)
    assert shape(route) == [(["bios>2.4.1"], REBOOT)]


def test_r12_of_two_that_exclude_each_other_the_lexically_later_stays():
    one = product("one", release("1.0"), release("2.0"))
    two = product("two", release("1.0"), release("2.0"))
    below = {"do": 1}
    del below
    from ordnung.core.catalog import Need, Release

    one = product(
        "one",
        release("1.0"),
        Release(version="2.0", activation=REBOOT, needs=(Need(product="two", below="2.0"),)),
    )
    two = product(
        "two",
        release("1.0"),
        Release(version="2.0", activation=REBOOT, needs=(Need(product="one", below="2.0"),)),
    )
    route = plan([one, two], [component("a", "one", "1.0"), component("b", "two", "1.0")])
    assert [lost.slot for lost in route.stranded] == ["a"]
    assert shape(route) == [(["b>2.0"], REBOOT)]


def test_r17_the_newest_stop_is_taken():
    bios = product("bios", release("1.0"), release("1.4"), release("1.5"), release("2.0", direct_from="1.4"))
    assert shape(plan([bios], [component("bios", "bios", "1.0")]))[0] == (["bios>1.5"], REBOOT)


def test_r17_at_once_goes_before_what_must_be_alone():
    single = product("a-single", release("1.0"), release("1.1", alone=True))
    drive = product("drive", release("1", ONCE), release("2", ONCE))
    route = plan([single, drive], [component("a", "a-single", "1.0"), component("d", "drive", "1")])
    assert shape(route) == [(["d>2", "a>1.1"], REBOOT)]


def test_d11_what_says_it_cannot_be_updated_is_stranded():
    route = plan([RAID], [component("raid", "raid", "7.16.1", updateable=False)])
    assert "can't be updated" in route.stranded[0].reason


def test_what_only_a_host_report_tells_of_is_stranded():
    """Everything is brought through the controller: it stood on sheets, and nothing was ever sent."""
    raid = component("raid", "raid", "7.16.1", updateable=False, origin="host report")
    route = plan([RAID], [raid])
    assert "stands in the host report alone" in route.stranded[0].reason


def test_what_its_controller_tells_no_version_of_is_on_no_sheet():
    """Nothing could be sent to it, and it stood on sheets: whether it had been written could never have been seen."""
    bios = product("bios", release("1.0"), release("2.0"))
    found = positions([bios], [component("bios", "bios", "1.0", origin="both", untold=True, updateable=False)])
    route = plan_route(found)
    assert route.rounds == () and "its controller tells no version of bios" in route.stranded[0].reason


def test_what_an_enclosure_holds_for_all_its_servers_is_written_for_none_of_them():
    supply = product("power", release("1.0"), release("2.0"))
    parts = [component("psu-1", "power", "2.0", shared=True), component("psu-2", "power", "1.0", shared=True)]
    route = plan([supply], parts)
    (lost,) = route.stranded
    assert route.rounds == () and (lost.slot, "shared with the other servers" in lost.reason) == ("psu-2", True)
    back = plan_way_back(positions([supply], parts), {"psu-1": "1.0"})
    assert back.rounds == () and "shared with the other servers" in back.stranded[0].reason


def test_what_can_not_be_named_is_written_only_where_nothing_is_like_it():
    """By the image alone the controller would write its like too, as new as they may be."""
    bios = product("bios", release("1.0"), release("2.0"))
    parts = [
        component("raid-1", "raid", "7.16.1", by_image=True), component("raid-2", "raid", "7.18.0", by_image=True),
        component("bios", "bios", "1.0", by_image=True),
    ]  # fmt: skip
    route = plan([RAID, bios], parts)
    assert shape(route) == [(["bios>2.0"], REBOOT)]
    (lost,) = route.stranded
    assert lost.slot == "raid-1" and lost.reason.startswith("its controller lets no component be named, and 1 more of")
    back = plan_way_back(positions([RAID, bios], parts), {"raid-2": "7.16.1"})
    assert back.rounds == () and "lets no component be named" in back.stranded[0].reason


def test_level_servers_have_no_rounds_and_a_proof():
    route = plan([RAID], [component("raid", "raid", "7.18.0")])
    assert route.rounds == () and route.proven


def test_way_back_goes_down_by_its_reset():
    route = plan_way_back(positions([RAID], [component("raid", "raid", "7.18.0")]), {"raid": "7.16.1"})
    assert shape(route) == [(["raid>7.16.1"], REBOOT)]


def test_way_back_stops_at_the_floor():
    bios = product("bios", release("2.1.0"), release("2.4.1"), release("3.2.0", floor_after="2.4.1"))
    route = plan_way_back(positions([bios], [component("bios", "bios", "3.2.0")]), {"bios": "2.1.0"})
    assert route.rounds == ()
    assert route.stranded[0].reason == "no way back below 2.4.1 once 3.2.0 is installed"


def test_r24_a_way_back_keeps_the_needs_of_what_stays():
    parts = [component("bios", "bios", "3.2.0"), component("bmc", "bmc", "5.30.0")]
    route = plan_way_back(positions([needy_bios(), BMC], parts), {"bmc": "5.10.2"})
    assert route.rounds == () and route.stranded[0].slot == "bmc"


def test_sixteen_products_of_six_releases_stay_within_the_limit():
    products, parts = [], []
    for n in range(16):
        steps = [
            release(f"1.{k}", RESTART if n % 3 == 0 else REBOOT, direct_from=f"1.{k - 1}" if k else None)
            for k in range(6)
        ]
        if n >= 12:
            steps[-1] = release("1.5", REBOOT, direct_from="1.4", needs={f"p{n - 4:02d}": "1.5"})
        products.append(product(f"p{n:02d}", *steps))
        parts.append(component(f"slot-{n:02d}", f"p{n:02d}", "1.0"))
    route = plan(products, parts)
    assert route.proven and route.stranded == ()


@pytest.mark.parametrize("turned", [False, True])
def test_the_order_of_the_components_does_not_matter(turned):
    parts = [
        component("bios", "bios", "2.1.0"),
        component("bmc", "bmc", "5.10.2"),
        component("raid", "raid", "7.16.1"),
    ]
    if turned:
        parts.reverse()
    assert shape(plan([needy_bios(), BMC, RAID], parts))[0] == (["bmc>5.30.0"], RESTART)
