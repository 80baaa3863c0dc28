"""What is chosen beforehand for a run or a repository, and what a person took out of it (N3.4)."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from ordnung.core.assessment import Standing
from ordnung.core.baseline import Position, leave_out
from ordnung.core.drift import Drift, judge_server
from ordnung.core.folds import Fold
from ordnung.core.packing import plan_packing
from ordnung.core.route import plan_route


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
                key = (position.product.id, position.component.standing, way[-1], tuple(way[:-1]))
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Cost:
    """What reaching the baseline costs: servers with something to do, writes and resets in all, bytes to be carried."""

    servers: int
    writes: int
    reboots: int
    power_cycles: int
    restarts: int
    bytes: int
    longest_seconds: float
    """Writing and resets of the slowest server, one after the other; what is not known counts as nothing."""
    barred: tuple[str, ...]
    """Updates after which there is no way back to where they came from, in words."""


def cost_of(folds: Sequence[Fold]) -> Cost:
    """What it costs to bring these servers to their targets."""
    busy = [(fold.standing, len(fold.names)) for fold in folds if fold.standing.route.rounds]
    packed = plan_packing([standing for standing, _ in busy])
    return Cost(
        servers=sum(n for _, n in busy),
        writes=sum(n * len(s.route.writes) for s, n in busy),
        reboots=sum(n * (s.route.outages - s.route.power_cycles) for s, n in busy),
        power_cycles=sum(n * s.route.power_cycles for s, n in busy),
        restarts=sum(n * s.route.restarts for s, n in busy),
        bytes=sum(line.release.payload.size for line in packed if line.release.payload),
        longest_seconds=max((_seconds(standing) for standing, _ in busy), default=0.0),
        barred=tuple(sorted({line for standing, _ in busy for line in _barred(standing)})),
    )


def _seconds(standing: Standing) -> float:
    rounds = standing.route.rounds
    return sum((r.reset_seconds or 0) + sum(w.seconds or 0 for w in r.writes) for r in rounds)


def _barred(standing: Standing) -> Iterator[str]:
    """Writes of a release with a floor above the version that is there now, and partitions that are damaged."""
    by_slot = {position.component.slot: position for position in standing.positions}
    for write in standing.route.writes:
        position = by_slot[write.slot]
        product = position.product
        release = product.find(write.to) if product else None
        if product is not None and position.component.is_empty and write.source == "damaged":
            yield f"{product.name}: what a damaged one still holds is lost when it is set up anew"
        if product is not None and release is not None and release.floor_after is not None:
            low, floor = product.key(position.component.version or ""), product.key(release.floor_after)
            if low is not None and floor is not None and low < floor:
                yield f"{product.name} {release.version}: no way back below {release.floor_after}"
