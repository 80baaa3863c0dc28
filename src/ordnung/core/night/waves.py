"""Waves proposed: first one server of each model and state, then half of each group, then the rest (``night.md`` T7).

What goes wrong with a release goes wrong on its first server, while all of its like still serve; and what shows only
under load shows while half of each group still runs what it ran before.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from ordnung.core.night.itinerary import Duty
from ordnung.core.night.limits import Wave

CANARY, HALVES, REST = "canary", "half of each group", "rest"
WAIT_S = 1800.0
"""How long the first servers are left to run before others follow, unless a person says otherwise."""
FEW = 3
"""Among so few servers there is nothing to be learnt from the first ones."""


@dataclass(frozen=True, slots=True, kw_only=True)
class _Kind:
    """What makes two servers alike: the same model goes the same way."""

    model: str
    way: tuple[tuple[str, str, str], ...]


def propose_waves(duties: Iterable[Duty]) -> tuple[Wave, ...]:
    """Waves for what servers have to do, each server in one; none where there are too few to learn from each other."""
    working = sorted((d for d in duties if d.route.rounds), key=lambda d: d.server)
    if len(working) <= FEW:
        return ()
    canaries = _first_of_each(working)
    left = [d for d in working if d.server not in canaries]
    halves = _first_halves(working, left)
    rest = tuple(d.server for d in left if d.server not in halves)
    waves = (
        Wave(name=CANARY, servers=tuple(sorted(canaries)), wait_seconds=WAIT_S, gate="person"),
        Wave(name=HALVES, servers=tuple(sorted(halves))),
        Wave(name=REST, servers=rest),
    )
    kept = tuple(wave for wave in waves if wave.servers)
    return kept if len(kept) > 1 else ()


def _first_of_each(duties: Sequence[Duty]) -> set[str]:
    """One of each kind, at most half of all: where nearly every server goes a way of its own, one of each model.

    Of two the one whose group has most members, since it is missed least.
    """
    sizes: dict[str, int] = {}
    for duty in duties:
        for group in duty.place.groups:
            sizes[group] = sizes.get(group, 0) + 1
    for kind_of in (_kind_of, _model_of):
        kinds: dict[_Kind, list[Duty]] = {}
        for duty in duties:
            kinds.setdefault(kind_of(duty), []).append(duty)
        if 2 * len(kinds) <= len(duties):
            return {max(like, key=lambda d: _spare(d, sizes)).server for like in kinds.values()}
    return set()


def _spare(duty: Duty, sizes: dict[str, int]) -> int:
    return max((sizes[group] for group in duty.place.groups), default=0)


def _kind_of(duty: Duty) -> _Kind:
    writes = tuple(sorted((w.product, w.source, w.to) for w in duty.route.writes))
    return _Kind(model=duty.model, way=writes)


def _model_of(duty: Duty) -> _Kind:
    return _Kind(model=duty.model, way=())


def _first_halves(duties: Sequence[Duty], left: Sequence[Duty]) -> set[str]:
    """So many of each group that, with its canaries, no more than half of it has gone."""
    found: set[str] = set()
    for group in sorted({g for d in left for g in d.place.groups}):
        members = [d.server for d in duties if group in d.place.groups]
        still = [d.server for d in left if group in d.place.groups and d.server not in found]
        gone = len(members) - len([d for d in left if group in d.place.groups])
        taken = len([s for s in members if s in found])
        found.update(still[: max(0, len(members) // 2 - gone - taken)])
    return found
