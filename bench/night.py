"""A night worked out: timetables against their bound, the forecast, time out of service against one by one."""

from __future__ import annotations

import datetime
import random
import statistics
import time
from typing import NamedTuple

from bench.baseline import make_fleet
from ordnung.core.assessment import assess_fleet
from ordnung.core.away import AwayPlace
from ordnung.core.catalog import Payload, Release
from ordnung.core.night.costs import count_costs
from ordnung.core.night.forecast import forecast
from ordnung.core.night.itinerary import Duty, plan_itinerary
from ordnung.core.night.limits import GroupLimit, NightLimits
from ordnung.core.night.timetable import plan_timetable
from ordnung.core.route import Round, Route, Write
from ordnung.core.rules import FIXED_RULES

RESETS = ("server reboot", "server reboot", "server reboot", "controller restart", "power cycle")
INSTANCES, SERVERS_EACH = 50, 88
PROMISED_S = {1_000: 1.0, 10_000: 5.0}
PROMISED_FORECAST_S = 2.0
PROMISED_TRIAL_S = 0.2
PROMISED_ROUTED_S = 2.0


class NightBench(NamedTuple):
    """Makespan over bound, shares of the promised times, time away against one by one."""

    median: float
    worst: float
    timetable: dict[int, float]
    forecast: float
    away: float
    outages: float
    trial: float
    routed: float


def bench_night() -> NightBench:
    """Everything above; the same in each run, being seeded."""
    ratios = []
    for seed in range(INSTANCES):
        duties, limits = make_night(SERVERS_EACH, seed)
        ratios.append(plan_timetable(duties, limits).ratio)
    shares, foretold = {}, 0.0
    for number, promised in PROMISED_S.items():
        duties, limits = make_night(number, 1)
        start = time.perf_counter()
        timetable = plan_timetable(duties, limits)
        shares[number] = (time.perf_counter() - start) / promised
        if number == min(PROMISED_S):
            start = time.perf_counter()
            forecast(timetable, limits, samples=1000)
            foretold = (time.perf_counter() - start) / PROMISED_FORECAST_S
    costs = count_costs(*make_night(1_000, 1))
    return NightBench(
        statistics.median(ratios), max(ratios), shares, foretold,
        costs.away_seconds / costs.away_seconds_one_by_one, costs.outages / costs.outages_one_by_one,
        _trial(), _routed(),
    )  # fmt: skip


def _trial() -> float:
    """A changed limit tried on a sheet of a thousand, as a share of what an answer may take."""
    duties, limits = make_night(1_000, 1)
    steps = [plan_itinerary(duty, limits) for duty in duties]  # kept from the sheet as it stands
    start = time.perf_counter()
    plan_timetable(steps, limits.changed(at_once=limits.at_once + 1), tries=0)
    return (time.perf_counter() - start) / PROMISED_TRIAL_S


def _routed() -> float:
    """Ten thousand servers in three hundred states matched, judged and routed, as a share of what is promised."""
    now = datetime.datetime.now(datetime.UTC)
    servers, catalogs = make_fleet(10_000, now)
    start = time.perf_counter()
    assess_fleet(servers, catalogs, FIXED_RULES, now.date())
    return (time.perf_counter() - start) / PROMISED_ROUTED_S


def make_night(number: int, seed: int) -> tuple[list[Duty], NightLimits]:
    """So many servers in at most 300 states, in ensembles, pairs and rings that heal, in racks of sixteen."""
    dice = random.Random(seed)
    states = [_state(dice) for _ in range(min(number, 300))]
    groups: dict[str, GroupLimit] = {}
    duties = []
    for n in range(number):
        group = dice.choice((f"ensemble {n // 48}", f"pair {n // 10}", f"ring {n // 60}", None))
        if group is not None and group not in groups:
            away, healing = (4, 0.0) if group[0] == "e" else (1, 300.0 if group[0] == "r" else 0.0)
            groups[group] = GroupLimit(name=group, may_be_away=away, heal_seconds=healing)
        place = AwayPlace(server=f"srv-{n:05}", groups=(group,) if group else (), rack=f"K{n // 16}")
        route, releases = dice.choice(states)
        duties.append(Duty(place=place, route=route, releases=releases))
    racks = {f"K{n}": 3 for n in range(number // 16 + 1)}
    at_once = max(8, number // 20)
    link = {"transfers": 4, "bytes_per_second": 50_000_000}
    return duties, NightLimits(at_once=at_once, groups=tuple(groups.values()), racks=racks, **link)  # type: ignore[arg-type]


def _state(dice: random.Random) -> tuple[Route, dict[tuple[str, str], Release | None]]:
    rounds, releases = [], {}
    for number in range(dice.randint(1, 3)):
        reset, version = dice.choice(RESETS), str(number + 1)
        writes = []
        for slot in range(dice.randint(1, 4)):
            name = f"slot {slot}"
            took = float(dice.randrange(30, 600, 10))
            writes.append(Write(slot=name, product="p", source="0", to=version, seconds=took))
            payload = Payload(path="x", size=dice.randrange(1_000_000, 60_000_000), sha256="0" * 64)
            releases[name, version] = Release(
                version=version, payload=payload, activation=reset, reset_seconds=float(dice.randrange(100, 500, 10))
            )
        active = tuple((w.slot, w.to) for w in writes)
        rounds.append(Round(writes=tuple(writes), reset=reset, activates=active))
    return Route(rounds=tuple(rounds)), dict(releases)
