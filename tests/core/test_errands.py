"""What has to be done outside: which steps by hand a route has, and how each thing is said."""

from __future__ import annotations

import pytest

from ordnung.core.errands import Errand, ErrandKind, all_hands, hands_after, hands_before, tell_errand
from ordnung.core.route import Write
from ordnung.core.run_sheet import HandsOn, hands_on
from ordnung.core.sheet import PlannedRound, PlannedWrite


def write(slot, before="", after=""):
    made = Write(slot=slot, product="p", source="1", to="2", seconds=60)
    return PlannedWrite(write=made, payload=None, hands_before=before, hands_after=after)


ROUNDS = (
    PlannedRound(writes=(write("bmc"), write("psu-1", before="Pull its cord.")), reset="controller restart"),
    PlannedRound(writes=(write("bp-1", after="See that its lights are green."),), reset="power cycle"),
)


def test_steps_by_hand_come_in_the_order_in_which_they_fall_due():
    assert [(e.kind, e.slot) for e in all_hands(ROUNDS)] == [
        (ErrandKind.HANDS_BEFORE, "psu-1"), (ErrandKind.HANDS_AFTER, "bp-1"),
    ]  # fmt: skip
    assert hands_on(ROUNDS) == (
        HandsOn(slot="psu-1", to="2", when="before", what="Pull its cord."),
        HandsOn(slot="bp-1", to="2", when="after", what="See that its lights are green."),
    )


@pytest.mark.parametrize(("written", "slot"), [(0, None), (1, "psu-1"), (2, None)])
def test_what_is_to_be_done_first_is_for_the_very_next_write(written, slot):
    found = hands_before(ROUNDS[0], written)
    assert (found.slot if found else None) == slot


def test_nothing_is_to_be_done_after_a_round_that_asks_for_nothing():
    assert hands_after(ROUNDS[0]) == ()


@pytest.mark.parametrize("kind", list(ErrandKind))
def test_each_is_said_with_the_server_or_with_what_is_to_be_done(kind):
    said = tell_errand(Errand(kind=kind, slot="bp-1", to="1.4", what="See that its lights are green."), "vault-01")
    assert said.endswith(".") and ("vault-01" in said) is not kind.is_by_hand
    assert ("bp-1 1.4: See that" in said) is kind.is_by_hand
