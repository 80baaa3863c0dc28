"""In which order servers take their places: priorities first, then a bounded, seeded search (T11)."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np

from ordnung.core.away import limits_of
from ordnung.core.night.itinerary import Itinerary
from ordnung.core.night.limits import NightLimits

if TYPE_CHECKING:
    from ordnung.core.night.timetable import Laid

EFFORT, MOST_TRIES, ENOUGH = 9_000, 300, 1.002
"""So many placements are made in the search, so many orders tried at most, and this near to the bound is enough."""


def improve_order(
    members: Sequence[Itinerary],
    lay: Callable[[Sequence[Itinerary]], Laid],
    limits: NightLimits,
    tries: int | None,
    bound: float,
) -> Laid:
    """The best of several orders. Nothing is tried any more once the bound is met."""
    order: Sequence[Itinerary] = by_chain(members, limits)
    best = lay(order)
    left = (min(MOST_TRIES, EFFORT // max(1, len(members))) if tries is None else tries) if len(members) > 1 else 0
    dice = np.random.default_rng(len(members))
    for number in range(left):
        if not best.missed and best.worth[1] <= bound * ENOUGH:
            break
        tried = (
            by_length(members) if number == 0 else by_start(best, order) if number == 1 else change(order, best, dice)
        )
        laid = lay(tried)
        if laid.worth <= best.worth:
            best, order = laid, tried
    return best


def by_length(members: Sequence[Itinerary]) -> list[Itinerary]:
    """The longest first."""
    return sorted(members, key=lambda i: (-i.main_seconds, i.server))


def by_chain(members: Sequence[Itinerary], limits: NightLimits) -> list[Itinerary]:
    """Longest remaining chain of a limit first, then longest itinerary, then name (T11)."""
    of = {i.server: limits_of(i.place, limits.away) if i.aways else [] for i in members}
    chains: dict[tuple[str, str], float] = {}
    for itinerary in members:
        for kind, name, allowed in of[itinerary.server]:
            chains[kind, name] = chains.get((kind, name), 0.0) + itinerary.away_seconds / max(1, allowed)

    def rank(itinerary: Itinerary) -> tuple[float, float, str]:
        chain = max((chains[kind, name] for kind, name, _ in of[itinerary.server]), default=0.0)
        return (-max(chain, itinerary.seconds), -itinerary.seconds, itinerary.server)

    heap = [(rank(i), n) for n, i in enumerate(members)]
    heapq.heapify(heap)
    order: list[Itinerary] = []
    while heap:
        known, number = heapq.heappop(heap)
        itinerary = members[number]
        now = rank(itinerary)
        if now > known and heap and now > heap[0][0]:
            heapq.heappush(heap, (now, number))
            continue
        order.append(itinerary)
        for kind, name, allowed in of[itinerary.server]:
            chains[kind, name] -= itinerary.away_seconds / max(1, allowed)
    return order


def by_start(laid: Laid, order: Sequence[Itinerary]) -> list[Itinerary]:
    """As they came to begin; who was left over first, since it is the hardest to place."""
    begins = {p.itinerary.server: p.begins for p in laid.placed}
    return sorted(order, key=lambda i: (begins.get(i.server, -1.0), i.server))


def change(order: Sequence[Itinerary], laid: Laid, dice: np.random.Generator) -> list[Itinerary]:
    """Someone who ends last or is left over goes earlier; or any two change places."""
    changed = list(order)
    late = {i.server for i in laid.missed}
    if not late:
        last = laid.worth[1]
        late = {p.itinerary.server for p in laid.placed if p.end >= last}
    places = [n for n, i in enumerate(changed) if i.server in late]
    chosen = places[int(dice.integers(len(places)))] if dice.random() < 0.7 else int(dice.integers(len(changed)))
    target = int(dice.integers(chosen + 1))
    changed.insert(target, changed.pop(chosen))
    return changed
