"""What reaching the baseline costs, before anybody decides to pay it."""

from __future__ import annotations

import pytest

from ordnung.core.assessment import assess_fleet
from ordnung.core.components import Server
from ordnung.core.folds import fold_fleet
from ordnung.core.review import cost_of
from ordnung.core.rules import FIXED_RULES
from tests.core.houses import DAY, catalogs, component, product, release


def cost(version: str, *releases, servers: int = 1):
    """Of so many equal servers with one BIOS at ``version``."""
    values = [Server(name=f"s{n}", model="one", components=(component("b", "bios", version),)) for n in range(servers)]
    return cost_of(fold_fleet(assess_fleet(values, catalogs(product("bios", *releases)), FIXED_RULES, DAY)))


def test_it_is_counted_for_every_server_but_packed_once():
    one = cost("1.0", release("1.0"), release("1.1"))
    three = cost("1.0", release("1.0"), release("1.1"), servers=3)
    assert (one.servers, one.writes, one.reboots, one.power_cycles, one.restarts) == (1, 1, 1, 0, 0)
    assert (three.servers, three.writes, three.reboots, three.bytes) == (3, 3, 3, one.bytes)
    assert three.longest_seconds == one.longest_seconds


def test_what_is_level_costs_nothing():
    nothing = cost("1.1", release("1.0"), release("1.1"))
    assert (nothing.servers, nothing.writes, nothing.bytes, nothing.longest_seconds, nothing.barred) == (
        0,
        0,
        0,
        0.0,
        (),
    )


@pytest.mark.parametrize(
    ("floor", "barred"),
    [
        (None, ()),
        ("0.9", ()),
        ("1.0", ()),
        ("1.1", ("Bios 1.1: no way back below 1.1",)),
    ],
)
def test_a_floor_above_what_is_there_bars_the_way_back(floor, barred):
    told = cost("1.0", release("0.9"), release("1.0"), release("1.1", floor_after=floor))
    assert tuple(line.casefold() for line in told.barred) == tuple(line.casefold() for line in barred)


@pytest.mark.parametrize(("state", "lost"), [("damaged", 1), ("blank", 0)])
def test_what_a_damaged_partition_may_still_hold_counts_as_lost(state, lost):
    part = component("d", "diag", None, state=state, can_set_up=True)
    catalog = catalogs(product("diag", release("5.4"), kind="store"))
    server = Server(name="s", model="one", components=(part,))
    told = cost_of(fold_fleet(assess_fleet([server], catalog, FIXED_RULES, DAY))).barred
    assert len([line for line in told if "lost when it is set up anew" in line]) == lost
