"""What a run costs, beside what the same updates would cost one by one (N5.3): resets, minutes away, bytes, risk."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable
from dataclasses import dataclass

from ordnung.core.by_disc import PRODUCT
from ordnung.core.night.itinerary import OUTAGES, Duty, Itinerary, plan_itinerary
from ordnung.core.night.limits import NightLimits
from ordnung.core.route import Round, Route

FAILED_WRITES = 1 / 200
"""Writes that fail and need a person, where no history says otherwise (F7)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Costs:
    """Sums over all servers. ``one_by_one`` are outages and seconds away if each update had its own reset.

    ``need_a_person``: servers of which it is to be expected that somebody has to look after them (F7).
    """

    updates: int
    outages: int
    restarts: int
    away_seconds: float
    bytes: int
    outages_one_by_one: int
    away_seconds_one_by_one: float
    need_a_person: float
    away_of_groups: dict[str, float]
    """Seconds that the servers of each group are away in all, the longest first."""


def count_costs(duties: Iterable[Duty], limits: NightLimits, failed_writes: float = FAILED_WRITES) -> Costs:
    """The costs of what these servers have to do.

    One by one means each update with its own reset and check, on a server that is moved off once (T4).

    Args:
        failed_writes: the share of writes that need a person, from the record where it tells enough (F7).
    """
    found = [(duty, plan_itinerary(duty, limits)) for duty in duties if duty.route.rounds]
    singles = [plan_itinerary(_one_by_one(duty), limits) for duty, _ in found]
    written = [[w for w in duty.route.writes if w.product != PRODUCT] for duty, _ in found]
    releases = [
        duty.releases.get((w.slot, w.to)) for (duty, _), writes in zip(found, written, strict=True) for w in writes
    ]
    return Costs(
        updates=len(releases),
        outages=sum(_outages(itinerary) for _, itinerary in found),
        restarts=sum(step.kind == "controller restart" for _, i in found for step in i.steps),
        away_seconds=sum(_away(itinerary) for _, itinerary in found),
        bytes=sum(release.size or 0 for release in releases if release is not None),
        outages_one_by_one=sum(_outages(itinerary) for itinerary in singles),
        away_seconds_one_by_one=sum(_away(itinerary) for itinerary in singles),
        need_a_person=sum(1 - (1 - failed_writes) ** len(writes) for writes in written),
        away_of_groups=_by_group(itinerary for _, itinerary in found),
    )


def _by_group(itineraries: Iterable[Itinerary]) -> dict[str, float]:
    sums: dict[str, float] = {}
    for itinerary in itineraries:
        for group in itinerary.place.groups if itinerary.aways else ():
            sums[group] = sums.get(group, 0.0) + _away(itinerary)
    return dict(sorted(sums.items(), key=lambda pair: (-pair[1], pair[0])))


def _outages(itinerary: Itinerary) -> int:
    return sum(step.kind in OUTAGES for step in itinerary.steps)


def _away(itinerary: Itinerary) -> float:
    return sum(step.seconds for first, last in itinerary.aways for step in itinerary.steps[first : last + 1])


def _one_by_one(duty: Duty) -> Duty:
    """The same updates, each in a round of its own with the reset it takes; what waited already goes as planned."""
    rounds = []
    for step in duty.route.rounds:
        written = {(w.slot, w.to): w for w in step.writes}
        for pair, write in written.items():
            release = duty.releases.get(pair)
            reset = step.reset if release is None or release.activation is None else release.activation
            rounds.append(Round(writes=(write,), reset=None if reset == "at once" else reset, activates=(pair,)))
        if not written:
            rounds.append(step)
    return dataclasses.replace(duty, route=Route(rounds=tuple(rounds)))
