"""What waits for a reset by what was written, where the controller tells nothing of it."""

from __future__ import annotations

import pytest

from ordnung.core.route import Write, plan_route
from ordnung.core.waiting import show_waiting
from tests.core.houses import component, positions, product, release

BIOS = product("bios", release("1.0"), release("2.0"), release("3.0"))
NIC = product("nic", release("1.0", "at once"), release("2.0", "at once"), kind="nic")


def waiting(*, slot="bios", of="bios", source="1.0", to="2.0", version="1.0", **facts):
    parts = [component("bios", "bios", version, **facts), component("nic", "nic", version)]
    found = positions([BIOS, NIC], parts)
    shown = show_waiting(found, [Write(slot=slot, product=of, source=source, to=to, seconds=None)])
    return {p.component.slot: p.component.waiting for p in shown}


def test_what_was_written_waits():
    assert waiting() == {"bios": "2.0", "nic": None}


@pytest.mark.parametrize(
    "otherwise",
    [
        {"version": "2.0"}, {"version": "3.0"}, {"of": "another"}, {"slot": "nic", "of": "nic"}, {"slot": "gone"},
        {"waiting": "3.0"},
    ],
    ids=["it runs", "another runs", "another product now", "active at once", "it is gone", "another is told"],
)  # fmt: skip
def test_but_not_if_something_has_happened_or_is_told_or_nothing_is_needed(otherwise):
    told = {"bios": otherwise.get("waiting"), "nic": None}
    assert waiting(**otherwise) == told


def test_the_way_on_is_the_reset_alone():
    found = positions([BIOS], [component("bios", "bios", "1.0")])
    route = plan_route(show_waiting(found, [Write(slot="bios", product="bios", source="1.0", to="3.0", seconds=None)]))
    assert not route.writes and [step.reset for step in route.rounds] == ["server reboot"]
