"""What is chosen beforehand for a run or a repository, and what a person took out of it (N3.4)."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ordnung.core.assessment import Standing
from ordnung.core.baseline import Position
from ordnung.core.drift import Drift, judge_server
from ordnung.core.folds import Fold
from ordnung.core.route import plan_route
from ordnung.core.rules import Target


def leave_out(positions: Sequence[Position], reasons: Mapping[str, str]) -> tuple[Position, ...]:
    """The same positions with the named slots held for this once, each by its reason."""
    return tuple(
        dataclasses.replace(p, target=Target(version=None, held=True, reason=f"taken out: {reasons[p.component.slot]}"))
        if p.component.slot in reasons and p.product is not None
        else p
        for p in positions
    )


def without(standing: Standing, reasons: Mapping[str, str]) -> Standing:
    """A server's standing when the named slots stay as they are: drift and route are worked out anew."""
    if not any(slot in reasons for slot in (p.component.slot for p in standing.positions)):
        return standing
    positions = leave_out(standing.positions, reasons)
    route = plan_route(positions)
    drift = judge_server(positions, {lost.slot: lost.reason for lost in route.stranded})
    return dataclasses.replace(standing, positions=positions, drift=drift, route=route)


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One product moving from one version to another in equal places: a line of the review."""

    product: str
    name: str
    kind: str
    before: str
    after: str
    via: tuple[str, ...]
    importance: str | None
    score: float | None
    places: tuple[tuple[str, str], ...]
    """(server, slot) of every component that makes this step."""


def list_steps(folds: Sequence[Fold]) -> tuple[Step, ...]:
    """What reaching the baseline writes, the most pressing first: exposed by score, then by how many."""
    found: dict[tuple[str, str, str, tuple[str, ...]], tuple[Position, Drift, list[tuple[str, str]]]] = {}
    for fold in folds:
        standing = fold.standing
        stops: dict[str, list[str]] = {}
        for write in standing.route.writes:
            stops.setdefault(write.slot, []).append(write.to)
        for position, drift in zip(standing.positions, standing.drift, strict=True):
            way = stops.get(position.component.slot)
            if way and position.product is not None:
                key = (position.product.id, position.component.version or "", way[-1], tuple(way[:-1]))
                places = found.setdefault(key, (position, drift, []))[2]
                places += [(name, position.component.slot) for name in fold.names]
    steps = [_step(key, *value) for key, value in found.items()]
    return tuple(sorted(steps, key=lambda s: (-(s.score or 0), s.importance != "security", -len(s.places), s.name)))


def _step(
    key: tuple[str, str, str, tuple[str, ...]], position: Position, drift: Drift, places: list[tuple[str, str]]
) -> Step:
    assert position.product is not None
    return Step(
        product=key[0],
        name=position.product.name,
        kind=position.product.kind,
        before=key[1],
        after=key[2],
        via=key[3],
        importance=drift.missed_importance,
        score=drift.score,
        places=tuple(sorted(places)),
    )
