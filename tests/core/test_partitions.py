"""A partition with nothing on it (N4.8): how it is planned, and what its filling comes to on a sheet."""

from __future__ import annotations

import pytest

from ordnung.core.catalog import Payload
from ordnung.core.route import plan_route
from ordnung.core.sheet import SET_UP, SET_UP_S, name_payloads
from tests.core.houses import ONCE, component, positions, product, release, shape

FILE = Payload(path="p", size=4, sha256="ab" * 32)
DIAG = product("diag", release("5.1", ONCE, payload=FILE), release("5.4", ONCE, payload=FILE), kind="store")


def empty(slot: str = "d", state: str = "blank", of: str = "diag", **facts):
    return component(slot, of, None, state=state, **{"can_set_up": True, **facts})


def plan(parts, *products):
    return plan_route(positions(list(products or (DIAG,)), parts))


@pytest.mark.parametrize("state", ["blank", "damaged"])
def test_it_is_filled_with_the_target_at_once_and_never_step_by_step(state):
    route = plan([empty(state=state)])
    assert shape(route) == [(["d>5.4"], None)] and route.writes[0].source == state


def test_what_follows_on_another_release_only_needs_that_first():
    stepped = product("diag", release("5.1", ONCE), release("5.4", ONCE, direct_from="5.1"), kind="store")
    assert shape(plan([empty()], stepped)) == [(["d>5.1", "d>5.4"], None)]
    gap = product("diag", release("5.4", ONCE, direct_from="5.1"), kind="store")
    (lost,) = plan([empty()], gap).stranded
    assert "the catalog lacks a release" in lost.reason


def test_blank_and_damaged_ones_of_a_product_are_two_parts_and_a_whole_one_goes_its_own_way():
    route = plan([empty("a"), empty("b", "damaged"), component("c", "diag", "5.1")])
    assert [(w.slot, w.source) for w in route.writes] == [("a", "blank"), ("b", "damaged"), ("c", "5.1")]


def test_a_controller_that_lets_none_be_set_up_strands_it_and_one_that_says_not_updateable_does_not():
    (lost,) = plan([empty(can_set_up=False)]).stranded
    assert lost.reason == "d is blank, and its controller does not let it be set up"
    assert not plan([empty(updateable=False)]).stranded, "what is Absent can't be updated; once it is set up it can"


def test_a_partition_that_was_not_read_is_left_alone():
    assert plan([component("d", "diag", None)]).rounds == ()
    assert plan([component("d", "diag", "5.1", state="damaged")]).writes[0].source == "5.1", "what tells is not empty"


def test_on_a_sheet_it_is_set_up_first_and_only_where_it_is_empty():
    (step,) = name_payloads(plan([empty()]).rounds, positions([DIAG], [empty()]))
    first, second = step.writes
    assert (first.sets_up, first.payload, first.brings, first.needs_payload) == (True, None, SET_UP, False)
    assert (first.write.source, first.write.to, first.write.seconds) == ("blank", SET_UP, SET_UP_S)
    assert (second.write.source, second.write.to, second.brings) == ("blank", "5.4", FILE.sha256)
    whole = [component("d", "diag", "5.1")]
    (step,) = name_payloads(plan(whole).rounds, positions([DIAG], whole))
    assert [w.sets_up for w in step.writes] == [False]


def test_a_second_step_over_it_is_not_set_up_again():
    stepped = product(
        "diag", release("5.1", ONCE, payload=FILE), release("5.4", ONCE, payload=FILE, direct_from="5.1"), kind="store"
    )
    (step,) = name_payloads(plan([empty()], stepped).rounds, positions([stepped], [empty()]))
    assert [(w.write.to, w.sets_up) for w in step.writes] == [(SET_UP, True), ("5.1", False), ("5.4", False)]
