"""A route that goes by a disc: into it, all writes by the kit, out of it; and who can't go so."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.away import AwayPlace
from ordnung.core.by_disc import IN, OUT, SLOT, go_by_disc, is_by_disc, take_out, why_not_by_disc
from ordnung.core.night.costs import count_costs
from ordnung.core.night.itinerary import duty_of_rounds, plan_itinerary
from ordnung.core.night.limits import GroupLimit, NightLimits
from ordnung.core.route import Write
from ordnung.core.sheet import DISC, DiscPart, PlannedRound, PlannedWrite
from tests.core.sheets import a_payload

SUMS = ("aa" * 32, "bb" * 32)


def a_write(slot, to, seconds=100.0, sha256=SUMS[0], **facts):
    write = Write(slot=slot, product=slot, source="1", to=to, seconds=seconds)
    return PlannedWrite(write=write, payload=a_payload(sha256=sha256), ahead=True, **facts)


ROUNDS = (
    PlannedRound(writes=(a_write("nic", "2"),), reset=None, activates=(("nic", "2"),)),
    PlannedRound(
        writes=(a_write("raid", "2"), a_write("bios", "2", sha256=SUMS[1])), reset="server reboot", reset_seconds=240.0,
        activates=(("raid", "2"), ("bios", "2")),
    ),
    PlannedRound(writes=(a_write("bios", "3", None),), reset="power cycle", activates=(("bios", "3"),)),
    PlannedRound(writes=(a_write("bmc", "3"),), reset="controller restart", activates=(("bmc", "3"),)),
)  # fmt: skip


def test_it_goes_in_and_out_once_and_the_kit_does_all_between():
    into, out = go_by_disc(ROUNDS)
    assert into.starts_disc and not into.leaves_disc and into.is_outage and into.activates == ()
    assert [(p.write.slot, p.write.to, p.brings, p.needs_payload) for p in into.writes] == [(SLOT, IN, DISC, False)]
    *kit, last = out.writes
    assert out.leaves_disc and out.reset == "server reboot" and (last.write.to, last.disc) == (OUT, DiscPart.OUT)
    assert [(p.write.slot, p.write.to) for p in kit] == [
        ("nic", "2"), ("raid", "2"), ("bios", "2"), ("bios", "3"), ("bmc", "3"),
    ]  # fmt: skip
    assert all(p.disc is DiscPart.KIT and p.is_update and p.needs_payload and not p.ahead for p in kit)
    assert dict(out.activates) == {"nic": "2", "raid": "2", "bios": "3", "bmc": "3"}, "only what is active in the end"
    assert is_by_disc(go_by_disc(ROUNDS)) and not is_by_disc(ROUNDS)


def test_a_reset_of_the_kits_lasts_as_long_as_the_write_before_it():
    _, out = go_by_disc(ROUNDS)
    assert [p.write.seconds for p in out.writes] == [100.0, 100.0, 340.0, None, 220.0, 5.0]


def test_what_needs_nothing_written_goes_by_no_disc():
    assert go_by_disc(()) == () and go_by_disc((PlannedRound(writes=(), reset="controller restart"),)) == ()


@pytest.mark.parametrize(("is_away", "reset"), [(True, "server reboot"), (False, None)])
def test_it_is_taken_out_with_a_reboot_only_where_its_own_system_may_not_run(is_away, reset):
    step = take_out(is_away=is_away)
    assert step.reset == reset and step.leaves_disc and not step.activates


def test_who_can_not_go_by_a_disc():
    assert why_not_by_disc(ROUNDS, SUMS) == ""
    assert why_not_by_disc(ROUNDS, SUMS[:1]) == "bios 2 is not on the disc"
    unnamed = PlannedRound(writes=(dataclasses.replace(a_write("nic", "2"), payload=None),), reset=None)
    assert why_not_by_disc([unnamed], SUMS) == "nic 2 is not on the disc"
    for hands in ({"hands_before": "press F"}, {"hands_after": "look"}):
        by_hand = PlannedRound(writes=(a_write("nic", "2", **hands),), reset=None)
        assert "needs somebody at the server" in why_not_by_disc([by_hand], SUMS)
    set_up = PlannedRound(writes=(dataclasses.replace(a_write("d", "new"), payload=None, sets_up=True),), reset=None)
    assert why_not_by_disc([set_up], ()) == "", "nothing is brought for it"


def test_it_is_away_from_the_disc_in_to_the_disc_out_whatever_its_group_wants():
    group = GroupLimit(name="pair", may_be_away=1, off_seconds=60.0, back_seconds=30.0, between=True)
    limits = NightLimits(groups=(group,), ahead="writing")
    duty = duty_of_rounds(AwayPlace(server="s", groups=("pair",)), "m", go_by_disc(ROUNDS))
    itinerary = plan_itinerary(duty, limits)
    assert len(itinerary.aways) == 1 and itinerary.ahead == 0
    first, last = itinerary.aways[0]
    assert itinerary.steps[first].kind == "moving off" and itinerary.steps[last].kind == "taking back"
    costs = count_costs([duty], limits)
    assert costs.updates == 5, "to put the disc in and out is none"
