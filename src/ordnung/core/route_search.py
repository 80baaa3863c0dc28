"""The route search: exact best-first search, then the tie rules (R17).

Costs are tuples (outages, power cycles, controller restarts, writes, milliseconds) compared in
that order. The bound of a state is, for the resets, the dearest chain any one part still needs
(its needs of other parts taken into account) and, for writes and time, the sum over the parts: no
route can do with less, so the first goal taken from the queue is the best there is.
"""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Iterator
from dataclasses import dataclass, field

from ordnung.core.route_problem import NONE_WAITING, Local, Part, Problem, State

Cost = tuple[int, int, int, int, int]
Action = tuple[str, int, int]
"""("write", part, point) or (reset kind, -1, -1)"""

RESETS = ("controller restart", "server reboot", "power cycle")
_RESET_COST: dict[str, Cost] = {
    "controller restart": (0, 0, 1, 0, 0),
    "server reboot": (1, 0, 0, 0, 0),
    "power cycle": (1, 1, 0, 0, 0),
}
ZERO: Cost = (0, 0, 0, 0, 0)
STATE_LIMIT = 30_000
"""Expanded states after which the best route so far is given with its gap; some 10 s of work."""
TIE_LIMIT = STATE_LIMIT
"""States solved for the tie rules, after which any route of least cost serves."""

Resets = tuple[int, int, int]
"""(outages, power cycles, controller restarts)"""


def add(one: Cost, other: Cost) -> Cost:
    """The sum of two costs."""
    return (one[0] + other[0], one[1] + other[1], one[2] + other[2], one[3] + other[3], one[4] + other[4])


@dataclass(frozen=True, slots=True)
class Found:
    """A route as actions with its cost and its proof."""

    actions: tuple[Action, ...]
    cost: Cost
    bound: Cost
    expanded: int
    proven: bool


@dataclass
class Bounds:
    """What each part still needs at least, remembered per local state."""

    parts: list[Part]
    _memo: dict[tuple[int, Local], Cost | None] = field(default_factory=dict)
    _restarts: dict[tuple[int, Local], int] = field(default_factory=dict)

    def of(self, state: State) -> Cost | None:
        """A lower bound of the cost from ``state`` to the goal; None when no route can exist."""
        resets = self._linked(state)
        if resets is None:
            return None
        writes = milliseconds = restarts = 0
        for index, local in enumerate(state):
            if not self.parts[index].has_goal:
                continue
            alone = self._part(index, local)
            if alone is None:
                return None
            resets = max(resets, alone[:3])
            restarts = max(restarts, self._restart_steps(index, local))
            writes += alone[3]
            milliseconds += alone[4]
        # Each power cycle can stand for one restart of a part; a route with more power cycles
        # than the bound has is dearer anyway.
        spared = max(resets[2], restarts - resets[1])
        return (resets[0], resets[1], spared, writes, milliseconds)

    def _restart_steps(self, index: int, local: Local) -> int:
        """The fewest steps of one part that become active by a controller restart."""
        key = (index, local)
        if key not in self._restarts:
            self._restarts[key] = self._count_restarts(self.parts[index], index, local)
        return self._restarts[key]

    def _count_restarts(self, part: Part, index: int, local: Local) -> int:
        active, waiting, allowed = local
        if active in part.goals:
            return 0
        nexts = [waiting] if waiting != NONE_WAITING else [p for p in part.follows[active] if allowed >> p & 1]
        return min(
            (
                (part.points[point].activation == "controller restart")
                + self._restart_steps(index, (point, NONE_WAITING, allowed & part.floors[point]))
                for point in nexts
                if self._part(index, (point, NONE_WAITING, allowed & part.floors[point])) is not None
            ),
            default=0,
        )

    def _linked(self, state: State) -> Resets | None:
        """The dearest chain with needs: when, counted in resets, each point can be active at the earliest.

        Resets add up along the route, so what must wait for two things waits for the later one.
        """
        linked = [i for i, part in enumerate(self.parts) if not part.free]
        if not any(any(self.parts[i].conditions) for i in linked):
            return (0, 0, 0)
        earliest: list[dict[int, Resets]] = [_standing(p, s) for p, s in zip(self.parts, state, strict=True)]
        grown = True
        while grown:
            grown = False
            for index in linked:
                grown |= self._advance(index, state[index], earliest)
        dearest: Resets = (0, 0, 0)
        for index in linked:
            if self.parts[index].has_goal:
                times = [when for point, when in earliest[index].items() if point in self.parts[index].goals]
                if not times:
                    return None
                dearest = max(dearest, min(times))
        return dearest

    def _advance(self, index: int, local: Local, earliest: list[dict[int, Resets]]) -> bool:
        part, mine, grown = self.parts[index], earliest[index], False
        for at in list(mine):
            if at == local[0] and local[1] != NONE_WAITING and not _is_rewritable(part, at):
                continue
            for point in part.follows[at]:
                ready = _ready(part, point, mine[at], earliest) if local[2] >> point & 1 else None
                if ready is None:
                    continue
                price = _cheapest_reset(part.points[point].activation)
                when = (ready[0] + price[0], ready[1] + price[1], ready[2] + price[2])
                if point not in mine or when < mine[point]:
                    mine[point] = when
                    grown = True
        return grown

    def _part(self, index: int, local: Local) -> Cost | None:
        key = (index, local)
        if key not in self._memo:
            self._memo[key] = self._chain(self.parts[index], local)
        return self._memo[key]

    def _chain(self, part: Part, local: Local) -> Cost | None:
        """Coordinate-wise least cost of one part by itself (resets lexically, writes, time)."""
        active, waiting, allowed = local
        if active in part.goals:
            return ZERO
        if waiting != NONE_WAITING:
            step = _cheapest_reset(part.points[waiting].activation)
            rest = self._chain(part, (waiting, NONE_WAITING, allowed & part.floors[waiting]))
            return None if rest is None else add(step, rest)
        options: list[Cost] = []
        for point in part.follows[active]:
            if not allowed >> point & 1:
                continue
            rest = self._chain(part, (point, NONE_WAITING, allowed & part.floors[point]))
            if rest is not None:
                own: Cost = (0, 0, 0, len(part.slots), len(part.slots) * part.points[point].milliseconds)
                options.append(add(add(own, _cheapest_reset(part.points[point].activation)), rest))
        if not options:
            return None
        resets = min(option[:3] for option in options)
        return (*resets, min(o[3] for o in options), min(o[4] for o in options))


def _is_rewritable(part: Part, point: int) -> bool:
    """Whether the route may come back to a point (after a waiting version below it became active)."""
    return any(point in follows for follows in part.follows)


def _standing(part: Part, local: Local) -> dict[int, Resets]:
    active, waiting, _ = local
    times: dict[int, Resets] = {active: (0, 0, 0)}
    if waiting != NONE_WAITING:
        times[waiting] = _cheapest_reset(part.points[waiting].activation)[:3]
    return times


def _ready(part: Part, point: int, since: Resets, earliest: list[dict[int, Resets]]) -> Resets | None:
    """When at the earliest the needs of ``point`` can hold, or None while they can't."""
    for other, mask in part.conditions[point]:
        times = [when for p, when in earliest[other].items() if mask >> p & 1]
        if not times:
            return None
        since = max(since, min(times))
    return since


def _cheapest_reset(activation: str) -> Cost:
    return _RESET_COST.get(activation, ZERO)


def moves(problem: Problem, state: State) -> Iterator[tuple[Action, Cost, State]]:
    """The actions worth trying in ``state``, each with its cost and the state after it.

    Where being further up can hurt no one, a part all of whose next writes are legal is written at
    once and nothing else is branched on: every route from here writes it some time, and moving that
    write to the front keeps the route legal and makes it no dearer.
    """
    for index, part in enumerate(problem.parts):
        if (part.free or problem.monotone) and part.has_goal and state[index][0] not in part.goals:
            forced = list(_writes(problem, state, index))
            if forced and len(forced) == _options(part, state[index]):
                yield from forced
                return
    for index, part in enumerate(problem.parts):
        if part.movable:
            yield from _writes(problem, state, index)
    for kind in RESETS:
        after = problem.reset(state, kind)
        if after is not None:
            yield (kind, -1, -1), _RESET_COST[kind], after


def _options(part: Part, local: Local) -> int:
    return sum(1 for point in part.follows[local[0]] if local[2] >> point & 1)


def _writes(problem: Problem, state: State, index: int) -> Iterator[tuple[Action, Cost, State]]:
    part = problem.parts[index]
    for point in part.follows[state[index][0]]:
        after = problem.write(state, index, point)
        if after is not None:
            many = len(part.slots)
            yield ("write", index, point), (0, 0, 0, many, many * part.points[point].milliseconds), after


def find_route(problem: Problem, limit: int = STATE_LIMIT) -> Found | None:
    """The best route by cost and tie rules, or None when there is none.

    When ``limit`` states were expanded first, the route comes from a greedy search and
    ``proven`` is False; ``bound`` then tells the gap.
    """
    bounds = Bounds(problem.parts)
    bound = bounds.of(problem.start())
    if bound is None:
        return None
    found, expanded = _best_first(problem, bounds, limit, greedy=False)
    if found is None and expanded >= limit:
        found, _ = _best_first(problem, bounds, limit, greedy=True)
        return None if found is None else Found(found[1], found[0], bound, expanded, proven=False)
    if found is None:
        return None
    cost, actions = found
    tied = _Ties(problem, bounds, cost).best()
    return Found(tied or actions, cost, bound, expanded, proven=True)


_Parents = dict[State, tuple[State, Action] | None]


def _best_first(
    problem: Problem, bounds: Bounds, limit: int, *, greedy: bool
) -> tuple[tuple[Cost, tuple[Action, ...]] | None, int]:
    start = problem.start()
    known: dict[State, Cost] = {start: ZERO}
    parents: _Parents = {start: None}
    counter = itertools.count()
    first = bounds.of(start)
    assert first is not None
    queue: list[tuple[Cost, int, Cost, State]] = [(first, 0, ZERO, start)]
    expanded = 0
    while queue:
        _, _, cost, state = heapq.heappop(queue)
        if cost > known[state]:
            continue
        if problem.is_goal(state):
            return (cost, _trace(parents, state)), expanded
        expanded += 1
        if expanded >= limit:
            return None, expanded
        for action, price, after in moves(problem, state):
            total = add(cost, price)
            if after in known and known[after] <= total:
                continue
            rest = bounds.of(after)
            if rest is None:
                continue
            known[after], parents[after] = total, (state, action)
            # Later entries first among equals: a perfect bound then leads straight to the goal.
            heapq.heappush(queue, (rest if greedy else add(total, rest), -next(counter), total, after))
    return None, expanded


def _trace(parents: _Parents, state: State) -> tuple[Action, ...]:
    actions: list[Action] = []
    while (step := parents[state]) is not None:
        state, action = step
        actions.append(action)
    return tuple(reversed(actions))


Tie = tuple[
    tuple[tuple[int, ...], ...],  # per part its stops, last first, newest lowest (R17.1)
    tuple[int, ...],  # resets in order (R17.2)
    tuple[int, ...],  # minus the writes active by each reset (R17.3)
    tuple[tuple[int, ...], ...],  # per part the resets by which its writes are active (R17.4)
]


class _Ties:
    """Among the routes of least cost, the one the tie rules choose.

    Every part of the key is built from the end of the route backwards, and for one state the
    best rest of the route doesn't depend on how the state was reached: so each state is solved once.
    """

    def __init__(self, problem: Problem, bounds: Bounds, best: Cost) -> None:
        self.problem, self.bounds, self.cost = problem, bounds, best
        self.solved: dict[State, tuple[Cost, Tie, tuple[Action, State] | None]] = {}
        self.failed: dict[State, Cost] = {}
        self.budget = TIE_LIMIT

    def best(self) -> tuple[Action, ...] | None:
        """The chosen actions, or None if the search grew too large (then any best route serves)."""
        state = self.problem.start()
        if self._solve(state, ZERO) is None or self.budget <= 0:
            return None
        actions: list[Action] = []
        while (step := self.solved[state][2]) is not None:
            actions.append(step[0])
            state = step[1]
        return tuple(actions)

    def _solve(self, state: State, spent: Cost) -> Tie | None:
        if state in self.solved:
            rest, tie, _ = self.solved[state]
            return tie if add(spent, rest) <= self.cost else None
        if state in self.failed and self.failed[state] <= spent:
            return None
        if self.problem.is_goal(state):
            none: tuple[tuple[int, ...], ...] = ((),) * len(self.problem.parts)
            self.solved[state] = (ZERO, (none, (), (0,), none), None)
            return self.solved[state][1]
        self.budget -= 1
        best: tuple[Tie, Cost, tuple[Action, State]] | None = None
        for action, price, after in moves(self.problem, state):
            total = add(spent, price)
            bound = self.bounds.of(after)
            if self.budget <= 0 or bound is None or add(total, bound) > self.cost:
                continue
            below = self._solve(after, total)
            if below is None:
                continue
            tie = self._extend(below, action, state)
            if best is None or tie < best[0]:
                best = (tie, add(price, self.solved[after][0]), (action, after))
        if best is None:
            self.failed[state] = spent
            return None
        self.solved[state] = (best[1], best[0], best[2])
        return best[0]

    def _extend(self, tie: Tie, action: Action, state: State) -> Tie:
        stops, resets, counts, active = tie
        kind, index, point = action
        if kind != "write":
            became = self._activated(state, kind)
            shifted = [tuple(when + 1 for when in mine) for mine in active]
            for place in became:
                shifted[place] = (0, *shifted[place])
            many = sum(len(self.problem.parts[place].slots) for place in became)
            return stops, (RESETS.index(kind), *resets), (-many, *counts), tuple(shifted)
        part = self.problem.parts[index]
        stops = (*stops[:index], (*stops[index], -point), *stops[index + 1 :])
        if part.points[point].activation == "at once":
            counts = (counts[0] - len(part.slots), *counts[1:])
            active = (*active[:index], (0, *active[index]), *active[index + 1 :])
        return stops, resets, counts, active

    def _activated(self, state: State, kind: str) -> list[int]:
        return [
            index
            for index, (part, local) in enumerate(zip(self.problem.parts, state, strict=True))
            if local[1] != NONE_WAITING and kind in ("power cycle", part.points[local[1]].activation)
        ]
