"""A bound that no timetable can be below (T12, A34), from what each limit must bear at least."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence

from ordnung.core.away import limits_of
from ordnung.core.night.itinerary import Itinerary
from ordnung.core.night.limits import NightLimits, Window

Waves = Sequence[tuple[Sequence[Itinerary], float]]
"""Who is placed of each wave, with the seconds that are waited after it."""


def find_bound(waves: Waves, limits: NightLimits, windows: Sequence[Window] | None) -> float:
    """The least makespan of these servers (seconds), whatever the order."""
    everyone = [i for members, _ in waves for i in members]
    if not everyone:
        return 0.0
    lead = windows[0].start if windows else 0.0
    held = [(members, wait) for members, wait in waves if members]
    total, plain = 0.0, 0.0
    for number, (members, wait) in enumerate(held):
        inside, outside = _main_bound(members, limits)
        after = wait if number < len(held) - 1 else 0.0
        total += max(inside, outside) + after
        plain += inside
    chained = max(lead + total, _through(windows, plain) if windows else 0.0)
    return max(chained, _whole_bound(everyone, limits))


def wave_bound(members: Sequence[Itinerary], limits: NightLimits) -> float:
    """The least seconds from the beginning of a wave to its end."""
    return max(_main_bound(members, limits)) if members else 0.0


def _through(windows: Sequence[Window], seconds: float) -> float:
    """When so many seconds of windows have gone by."""
    for window in windows:
        if seconds <= window.end - window.start:
            return window.start + seconds
        seconds -= window.end - window.start
    return windows[-1].end


def _main_bound(members: Sequence[Itinerary], limits: NightLimits) -> tuple[float, float]:
    """For the steps that are not ahead: (what must be inside windows, the same with healing)."""
    longest = max(i.main_seconds for i in members)
    pieces = [piece for i in members for piece in _pieces(i)]
    inside = max(longest, _machines(pieces, limits.at_once))
    healed = inside
    for capacity, healing, group in _groups(members, limits):
        lead = min(_lead(i) for i in group)
        tail = min(_tail(i) for i in group)
        stays = [stay for i in group for stay in i.stays]
        inside = max(inside, lead + _machines(stays, capacity) + tail)
        healing_too = [stay for i in group for stay in (*i.stays[:-1], i.stays[-1] + healing)]
        healed = max(healed, lead + _machines(healing_too, capacity) - healing + tail)
    return inside, healed


def _whole_bound(everyone: Sequence[Itinerary], limits: NightLimits) -> float:
    """For everything together, steps ahead too: at once, the link, and the longest."""
    steps = [(s.seconds, s.kind) for i in everyone for s in i.steps[: i.ahead]]
    pieces = [*(seconds for seconds, _ in steps), *(piece for i in everyone for piece in _pieces(i))]
    staging = [s.seconds for i in everyone for s in i.steps if s.kind == "staging"]
    least_after = min((i.seconds - _until_last_staging(i) for i in everyone if _until_last_staging(i)), default=0.0)
    return max(
        max(i.seconds for i in everyone),
        _machines(pieces, limits.at_once),
        (_machines(staging, limits.transfers) + least_after) if staging else 0.0,
    )


def _machines(jobs: Iterable[float], places: int) -> float:
    """What so many places need at least for jobs that can't be cut: their sum shared, or the k + 1 that must queue."""
    ordered = sorted((j for j in jobs if j > 0), reverse=True)
    upto = [0.0, *itertools.accumulate(ordered)]
    queues = range(0, len(ordered), places)
    shared = math.floor(upto[-1] / places * 2**20) / 2**20
    return max([shared, *(upto[last + 1] - upto[last - n] for n, last in enumerate(queues))])


def _pieces(itinerary: Itinerary) -> list[float]:
    """The stretches in which it counts among those at once; from going away for good on they are one."""
    found: list[float] = []
    for number, stretch in enumerate(itinerary.stretches):
        if stretch.opens is not None:
            return [*found, sum(s.seconds for s in itinerary.stretches[number:])]
        found.append(stretch.seconds)
    return found


def _groups(members: Sequence[Itinerary], limits: NightLimits) -> list[tuple[int, float, list[Itinerary]]]:
    """Each limit on who is away: how many it allows beside those occupied, its healing, who obeys it."""
    occupied = {p.server for p in limits.occupied}
    found: dict[tuple[str, str], tuple[int, list[Itinerary]]] = {}
    for itinerary in members:
        if not itinerary.holds or itinerary.server in occupied:
            continue
        for kind, name, allowed in limits_of(itinerary.place, limits.away):
            taken = sum(name in p.names(kind) for p in limits.occupied)
            found.setdefault((kind, name), (allowed - taken, []))[1].append(itinerary)
    return [
        (capacity, limits.group(name).heal_seconds if kind == "group" else 0.0, group)
        for (kind, name), (capacity, group) in found.items()
        if capacity > 0
    ]


def _lead(itinerary: Itinerary) -> float:
    """What must come before it is away first, steps ahead not counted."""
    return sum(s.seconds for s in itinerary.steps[itinerary.ahead : itinerary.holds[0][0]])


def _tail(itinerary: Itinerary) -> float:
    """What must come after it was away last."""
    return sum(s.seconds for s in itinerary.steps[itinerary.holds[-1][1] + 1 :])


def _until_last_staging(itinerary: Itinerary) -> float:
    """What must go by until its last staging is over; 0 without any."""
    at, last = 0.0, 0.0
    for step in itinerary.steps:
        at += step.seconds
        if step.kind == "staging":
            last = at
    return last
