"""What a baseline costs and gains on this fleet: for a draft against the one that holds (N2.7).

The fleet is worked out state by state, not server by server: ten thousand servers are a few hundred
states. Only states whose targets differ are judged and routed anew, and what a route costs is
remembered by what it depends on.
"""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from ordnung.core.assessment import Standing
from ordnung.core.baseline import Position, position_of
from ordnung.core.drift import OFF_BASELINE, Verdict, build_columns, judge
from ordnung.core.folds import Fold, Placed
from ordnung.core.matching import Catalogs
from ordnung.core.packing import ways_back
from ordnung.core.route import Route, plan_route
from ordnung.core.rules import Rule


@dataclass(frozen=True, slots=True, kw_only=True)
class Sums:
    """A fleet under one baseline. Counts are of components unless said otherwise; ``bytes`` are to be carried."""

    off: int
    exposed: int
    held: int
    fixes: frozenset[str]
    """Advisories that reaching the targets closes somewhere."""
    servers: int
    """Servers that have something to do."""
    outages: int
    power_cycles: int
    restarts: int
    writes: int
    bytes: int
    stranded: int
    """Servers with a component that can't get to its target."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetChange:
    """A product whose target differs between two baselines; None stands for no target, ``held`` for a hold."""

    product: str
    name: str
    before: str | None
    after: str | None
    components: int
    servers: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Effect:
    """Two baselines on one fleet."""

    before: Sums
    after: Sums
    changes: tuple[TargetChange, ...]
    placed: tuple[Placed, ...]
    """The fleet under the second baseline, for its list."""


@dataclass(frozen=True, slots=True)
class Cost:
    """What the route of one state costs, whatever the slots are called."""

    outages: int
    power_cycles: int
    restarts: int
    writes: tuple[tuple[int, str], ...]
    """(place, version) of every write, in order; places are those of the positions asked about."""
    stranded: frozenset[int]
    """Places of components without a way."""


@dataclass(slots=True)
class CostMemory:
    """Costs by what they depend on, and the sums of the fleet as it stands; good for one set of catalogs."""

    costs: dict[tuple[object, ...], Cost] = field(default_factory=dict)
    standing: dict[int, tuple[Standing, Cost]] = field(default_factory=dict)
    fleet: tuple[Sequence[Fold], Sums] | None = None


@dataclass(frozen=True, slots=True)
class _State:
    """One state under one baseline, and what its route costs."""

    placed: Placed
    cost: Cost

    @property
    def count(self) -> int:
        """How many servers are in it."""
        return len(self.placed.names)

    @property
    def positions(self) -> tuple[Position, ...]:
        """Where the components stand."""
        return self.placed.positions


Baseline = tuple[Catalogs, Sequence[Rule]]
"""What each model follows, and the rules."""


def compare_baselines(
    folds: Sequence[Fold],
    before: Baseline | None,
    after: Baseline,
    today: datetime.date,
    memory: CostMemory | None = None,
    groups: Mapping[str, str | None] | None = None,
) -> Effect:
    """The fleet under two baselines.

    Args:
        folds: the fleet in folds, as it stands now.
        before: the one baseline; None for the one by which the folds were judged.
        after: the other.
        groups: the group of every server; needed when a rule speaks of groups.
    """
    memory = memory if memory is not None else CostMemory()
    rules = [*(before[1] if before else ()), *after[1]]
    pieces = list(_split(folds, rules, groups or {}))
    if before is None:
        old = [_as_it_stands(fold, memory) for fold, _ in pieces]
    else:
        old = [_state(fold, group, before, today, memory, None) for fold, group in pieces]
    new = [_state(fold, group, after, today, memory, old[n]) for n, (fold, group) in enumerate(pieces)]
    return Effect(
        before=_sum(old) if before else _fleet_sums(folds, old, memory),
        after=_sum(new),
        changes=_changes(old, new),
        placed=tuple(state.placed for state in new),
    )


def _fleet_sums(folds: Sequence[Fold], states: Sequence[_State], memory: CostMemory) -> Sums:
    if memory.fleet is None or memory.fleet[0] is not folds:
        memory.fleet = (folds, _sum(states))
    return memory.fleet[1]


def _split(
    folds: Sequence[Fold], rules: Sequence[Rule], groups: Mapping[str, str | None]
) -> Iterator[tuple[Fold, str | None]]:
    """Folds taken apart as far as the rules tell their servers apart; the group is told where a rule names it."""
    named = {name for rule in rules for name in rule.where.get("server", ())}
    by_group = {name for rule in rules for name in rule.where.get("group", ())}
    if not named and not by_group:
        yield from ((fold, None) for fold in folds)
        return
    for fold in folds:
        parts: dict[tuple[str | None, str | None], list[str]] = {}
        for name in fold.names:
            group = groups.get(name) if by_group else None
            key = (name if name in named else None, group if group in by_group else None)
            parts.setdefault(key, []).append(name)
        for (_, group), names in parts.items():
            yield Fold(fold.standing, tuple(names)), group


def _as_it_stands(fold: Fold, memory: CostMemory) -> _State:
    standing = fold.standing
    known = memory.standing.get(id(standing))
    if known is None or known[0] is not standing:
        known = memory.standing[id(standing)] = (standing, cost_of(standing.positions, memory))
    return _State(fold.placed, known[1])


def _state(
    fold: Fold, group: str | None, baseline: Baseline, today: datetime.date, memory: CostMemory, like: _State | None
) -> _State:
    """One state under a baseline; ``like`` is the same under the other, taken over when no target differs."""
    server = fold.standing.server
    decided: dict[str, Position] = {}
    positions = tuple(
        position_of(server, c, baseline[0], baseline[1], today, decided, name=fold.names[0], group=group)
        for c in server.components
    )
    placed = Placed(server.model, positions, fold.names)
    if like is not None and _same_targets(like.positions, positions):
        return _State(placed, like.cost)
    return _State(placed, cost_of(positions, memory))


def _same_targets(one: tuple[Position, ...], other: tuple[Position, ...]) -> bool:
    return all(_wanted(a) == _wanted(b) for a, b in zip(one, other, strict=True))


def _wanted(position: Position) -> tuple[object, ...]:
    target = position.target
    return (id(position.product), target.version if target else None, bool(target and target.held))


def cost_of(positions: Sequence[Position], memory: CostMemory) -> Cost:
    """The cost of the least-cost route of one state; equal for equal states whatever their slots are called."""
    needed = {n.product for p in positions if p.product for r in p.product.releases for n in r.needs}
    keyed = sorted(
        ((_route_key(p), n) for n, p in enumerate(positions) if _matters(p, needed)), key=lambda pair: repr(pair[0])
    )
    key = tuple(k for k, _ in keyed)
    if key not in memory.costs:
        chosen = [positions[n] for _, n in keyed]
        memory.costs[key] = _cost(plan_route(chosen), chosen)
    found = memory.costs[key]
    # The remembered places count within the sorted choice: put them back where they stand here.
    stranded = frozenset(keyed[place][1] for place in found.stranded)
    writes = tuple((keyed[place][1], version) for place, version in found.writes)
    return Cost(found.outages, found.power_cycles, found.restarts, writes, stranded)


def _matters(position: Position, needed: set[str]) -> bool:
    product, component, target = position.product, position.component, position.target
    if product is None:
        return component.has_waiting
    if component.has_waiting or product.id in needed or component.version is None or component.by_image:
        return True
    if target is None or target.held or target.version is None:
        return False
    have, want = product.key(component.version), product.key(target.version)
    return have is None or want is None or have < want


def _route_key(position: Position) -> tuple[object, ...]:
    c, target = position.component, position.target
    goal = (target.version, target.held) if target else None
    return (id(position.product), c.version, c.waiting, c.updateable, c.state, c.can_set_up, c.by_image, c.shared, goal)


def _cost(route: Route, chosen: Sequence[Position]) -> Cost:
    places = {position.component.slot: place for place, position in enumerate(chosen)}
    return Cost(
        route.outages,
        route.power_cycles,
        route.restarts,
        tuple((places[write.slot], write.to) for write in route.writes),
        frozenset(places[lost.slot] for lost in route.stranded),
    )


def _sum(states: Sequence[_State]) -> Sums:
    positions = [p for state in states for p in state.positions]
    stranded = [n in state.cost.stranded for state in states for n in range(len(state.positions))]
    judged = judge(build_columns(positions, stranded))
    weights = [state.count for state in states for _ in state.positions]
    counts: Counter[int] = Counter()
    for verdict, weight in zip(judged.verdict.tolist(), weights, strict=True):
        counts[verdict] += weight
    return Sums(
        off=sum(counts[v] for v in OFF_BASELINE),
        exposed=counts[Verdict.EXPOSED],
        held=counts[Verdict.HELD],
        fixes=_fixes(positions, stranded),
        servers=sum(s.count for s in states if s.cost.writes or s.cost.outages or s.cost.restarts),
        outages=sum(s.count * s.cost.outages for s in states),
        power_cycles=sum(s.count * s.cost.power_cycles for s in states),
        restarts=sum(s.count * s.cost.restarts for s in states),
        writes=sum(s.count * len(s.cost.writes) for s in states),
        bytes=_bytes(states),
        stranded=sum(s.count for s in states if s.cost.stranded),
    )


def _fixes(positions: Iterable[Position], stranded: Iterable[bool]) -> frozenset[str]:
    found: set[str] = set()
    seen: set[tuple[int, str | None, str]] = set()
    for position, lost in zip(positions, stranded, strict=True):
        product, target = position.product, position.target
        if lost or product is None or target is None or target.version is None:
            continue
        question = (id(product), position.component.version, target.version)
        if question not in seen and position.component.version is not None:
            seen.add(question)
            missed = product.between(position.component.version, target.version)
            found |= {fix.id for release in missed for fix in release.fixes}
    return frozenset(found)


def _bytes(states: Sequence[_State]) -> int:
    """Every payload once: targets, must-stops and the ways back of what is written."""
    sizes: dict[str, int] = {}
    seen: set[tuple[int, str | None, tuple[str, ...]]] = set()
    for state in states:
        stops: dict[int, list[str]] = {}
        for place, version in state.cost.writes:
            stops.setdefault(place, []).append(version)
        for place, goals in stops.items():
            position = state.positions[place]
            question = (id(position.product), position.component.version, tuple(goals))
            if question not in seen and position.product is not None:
                seen.add(question)
                for goal in [*goals, *ways_back(position.product, [position.component.version or "", *goals])]:
                    release = position.product.find(goal)
                    if release is not None and release.payload is not None:
                        sizes[release.payload.sha256] = release.payload.size
    return sum(sizes.values())


def _changes(old: Sequence[_State], new: Sequence[_State]) -> tuple[TargetChange, ...]:
    counts: dict[tuple[str, str, str | None, str | None], tuple[int, int]] = {}
    for one, other in zip(old, new, strict=True):
        touched: Counter[tuple[str, str, str | None, str | None]] = Counter()
        for a, b in zip(one.positions, other.positions, strict=True):
            product = b.product or a.product
            before, after = _goal(a), _goal(b)
            if product is not None and before != after:
                touched[product.id, product.name, before, after] += 1
        for key, n in touched.items():
            parts, servers = counts.get(key, (0, 0))
            counts[key] = (parts + n * one.count, servers + one.count)
    return tuple(
        TargetChange(product=p, name=name, before=b, after=a, components=n, servers=m)
        for (p, name, b, a), (n, m) in sorted(counts.items(), key=lambda item: (item[0][1], str(item[0])))
    )


def _goal(position: Position) -> str | None:
    if position.target is None:
        return None
    return "held" if position.target.held else position.target.version
