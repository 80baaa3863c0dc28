"""The forecast: calibrated against nights carried out, conditioned on what has happened, sure where it is asked to be."""

from __future__ import annotations

import dataclasses
import random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ordnung.core.away import AwayPlace
from ordnung.core.night.certainty import plan_surely
from ordnung.core.night.durations import Durations, History
from ordnung.core.night.forecast import Happened, forecast
from ordnung.core.night.itinerary import PlannedStep
from ordnung.core.night.limits import GroupLimit, NightLimits, Wave, Window
from ordnung.core.night.timetable import plan_timetable
from tests.core.night.nights import a_duty, nights
from tests.core.night.simulated import carry_out

REBOOT, RESTART = "server reboot", "controller restart"


def a_house(seed, number=30):
    dice = random.Random(seed)
    duties = [
        a_duty(
            f"s{n:02}",
            *((*[float(dice.randrange(60, 500, 10)) for _ in range(dice.randint(1, 3))], dice.choice([REBOOT, REBOOT, RESTART])) for _ in range(dice.randint(1, 2))),
            group=dice.choice([None, "ring", f"pair {n // 4}"]), rack=f"K{n // 8}",
        )
        for n in range(number)
    ]  # fmt: skip
    pairs = [GroupLimit(name=f"pair {n}", may_be_away=1) for n in range(number // 4 + 1)]
    groups = (*pairs, GroupLimit(name="ring", may_be_away=2, heal_seconds=120.0))
    return duties, NightLimits(at_once=6, transfers=2, groups=groups, racks={f"K{n}": 2 for n in range(8)})


@pytest.mark.exhaustive
@pytest.mark.parametrize("seed", [1, 2])
def test_nine_in_ten_holds_in_about_nine_nights_of_ten(seed):
    duties, limits = a_house(seed)
    timetable = plan_timetable(duties, limits, tries=40)
    found = forecast(timetable, limits, samples=1000, seed=seed)
    dice = np.random.default_rng(seed + 100)
    nights = [carry_out(timetable, limits, dice)[0] for _ in range(250)]
    assert 0.85 <= np.mean([end <= found.end.p90 for end in nights]) <= 0.95
    assert 0.40 <= np.mean([end <= found.end.p50 for end in nights]) <= 0.60


@given(nights(most=4, windows=False))
@settings(max_examples=60, deadline=None)
def test_with_nothing_uncertain_it_is_the_timetable_or_earlier(night):
    """Where no step varies, the policy never ends later than what was worked out, but for a wait behind its own order."""
    duties, limits = night
    timetable = plan_timetable(duties, limits, tries=2)
    if not timetable.seats:
        return
    still = dataclasses.replace(limits)
    found = forecast(timetable, still, samples=3, history=_Exact())
    assert found.end.p99 <= timetable.makespan + 1e-6


class _Exact(History):
    """Every step takes what was planned."""

    def of(self, model, step):
        return (step.seconds,) * 8 if step.seconds > 0 else ()


def test_the_same_seed_has_the_same_answer_and_another_has_another():
    duties, limits = a_house(4, number=8)
    timetable = plan_timetable(duties, limits)
    one, two, other = (forecast(timetable, limits, samples=50, seed=seed) for seed in (1, 1, 2))
    assert one == two and one.end != other.end


def test_the_binding_limit_is_named_with_what_it_costs():
    duties = [a_duty(n, (30.0, REBOOT), group="pair") for n in ("a", "b", "c")]
    limits = NightLimits(groups=(GroupLimit(name="pair", may_be_away=1),))
    found = forecast(plan_timetable(duties, limits), limits, samples=100)
    assert found.binds.limit == "group pair" and 3 < found.binds.server_minutes < 12
    assert forecast(plan_timetable(duties[:1], limits), limits, samples=100).binds is None


def test_waves_and_servers_each_have_their_own_quantiles_and_windows_their_chances():
    duties = [a_duty(n, (100.0, REBOOT)) for n in ("a", "b")]
    waves = (Wave(name="canary", servers=("a",), wait_seconds=60.0), Wave(name="rest"))
    limits = NightLimits(waves=waves, windows=(Window(0.0, 800.0),))
    found = forecast(plan_timetable(duties, limits), limits, samples=200)
    assert found.waves["canary"].p99 < found.waves["rest"].p50 <= found.end.p50
    assert [c.in_time for c in found.servers] == [1.0, 1.0]
    assert forecast(plan_timetable(duties, NightLimits()), NightLimits(), samples=5).servers[0].in_time is None


def test_kept_durations_count_from_eight_on():
    step = PlannedStep(kind="writing", seconds=100.0, slot="b", product="p", to="1")
    kept = [400.0, 420.0, 380.0, 410.0, 390.0, 405.0, 395.0, 400.0]
    draw = lambda n: np.median(Durations(2000, 0, History(writes={("m", "p", "1"): kept[:n]})).draw("s", "m", step))  # noqa: E731
    assert 80 < draw(7) < 120 and 390 < draw(8) < 410
    wide = Durations(4000, 0, History(resets={("m", REBOOT): kept})).draw(
        "s", "m", PlannedStep(kind=REBOOT, seconds=1.0)
    )
    assert wide.max() > 420 and wide.min() < 380


def test_resets_of_one_server_go_together_and_those_of_two_do_not():
    durations, step = Durations(4000, 0), PlannedStep(kind=REBOOT, seconds=300.0)
    a, b, c = (np.log(durations.draw(name, "m", step)) for name in ("x", "x", "y"))
    assert 0.45 < np.corrcoef(a, b)[0, 1] < 0.55 and abs(np.corrcoef(a, c)[0, 1]) < 0.06
    assert 0.28 < a.std() < 0.32


@pytest.mark.parametrize("kept", [(), [90.0, 95.0, 100.0, 105.0, 110.0, 100.0, 98.0, 102.0]], ids=["planned", "kept"])
@pytest.mark.parametrize("elapsed", [20.0, 150.0, 5000.0])
def test_a_step_that_goes_on_is_at_least_as_long_as_it_is(kept, elapsed):
    step = PlannedStep(kind="writing", seconds=100.0, product="p", to="1")
    found = Durations(500, 0, History(writes={("m", "p", "1"): kept})).draw("s", "m", step, elapsed)
    assert found.min() >= elapsed


@given(nights(most=4, windows=False), st.floats(0, 900), st.integers(0, 5))
@settings(max_examples=60, deadline=None)
def test_no_end_is_ever_put_before_now(night, now, seed):
    duties, limits = night
    timetable = plan_timetable(duties, limits, tries=2)
    story = {}
    for seat in timetable.seats:
        begun = [
            Happened(start, start + step.seconds if start + step.seconds <= now else None)
            for start, step in zip(seat.placed.starts, seat.placed.itinerary.steps, strict=True)
            if start <= now
        ]
        story[seat.server] = begun
    found = forecast(timetable, limits, samples=20, seed=seed, story=story, now=now)
    for seat, chance in zip(sorted(timetable.seats, key=lambda s: s.server), found.servers, strict=True):
        if seat.placed.end > now:
            assert chance.done.p50 >= now
        else:
            assert chance.done.p50 == chance.done.p99 == pytest.approx(seat.placed.end)


def test_who_is_not_sure_enough_to_be_back_is_left_over_with_the_chance():
    duties = [a_duty(f"s{n}", (300.0, REBOOT), group="pair") for n in range(3)]
    limits = NightLimits(groups=(GroupLimit(name="pair", may_be_away=1),), windows=(Window(0.0, 690.0),), certainty=0.9)
    planned = plan_timetable(duties, limits)
    assert len(planned.seats) == 3
    timetable, found = plan_surely(duties, limits, samples=400)
    assert 0 < len(timetable.seats) < 3 and min(c.in_time for c in found.servers) >= 0.9
    assert "90 % are asked for" in timetable.left[0].reason
    everybody, _ = plan_surely(duties, dataclasses.replace(limits, certainty=None), samples=50)
    assert len(everybody.seats) == 3


def test_large_limits_are_looked_at_in_parts():
    duties = [a_duty(f"s{n:03}", (60.0, REBOOT), group="big") for n in range(120)]
    limits = NightLimits(at_once=100, transfers=60, groups=(GroupLimit(name="big", may_be_away=99),))
    timetable = plan_timetable(duties, limits)
    found = forecast(timetable, limits, samples=40)
    assert timetable.makespan <= found.end.p90 < 3 * timetable.makespan


def test_who_comes_back_between_rounds_is_not_kept_away_by_its_own_healing():
    """A15: two outages of one server of a ring that heals for long follow each other as they do in the timetable."""
    duties = [a_duty("s1", (60.0, REBOOT), (60.0, REBOOT), group="ring")]
    ring = GroupLimit(name="ring", may_be_away=1, heal_seconds=5000.0, between=True)
    limits = NightLimits(groups=(ring,))
    timetable = plan_timetable(duties, limits)
    found = forecast(timetable, limits, samples=60)
    assert timetable.makespan < 5000.0 and found.end.p99 < 5000.0


def test_a_server_that_is_away_already_needs_no_further_place():
    """A18."""
    duties = [a_duty("s1", (60.0, REBOOT), group="pair")]
    away = AwayPlace(server="s1", groups=("pair",), kept=True)
    limits = NightLimits(groups=(GroupLimit(name="pair", may_be_away=1),), occupied=(away,))
    timetable = plan_timetable(duties, limits)
    assert [seat.server for seat in timetable.seats] == ["s1"]
    assert forecast(timetable, limits, samples=20).end.p99 < 3 * timetable.makespan
