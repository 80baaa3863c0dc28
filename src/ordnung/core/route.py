"""The route of one server: the ordered releases from the present to the baseline.

``plan_route`` goes up to the targets, ``plan_way_back`` takes chosen components down. Both answer
with the fewest resets and a proof of it (see ``planning.md`` and rules R1 to R24).
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from ordnung.core.baseline import Position
from ordnung.core.catalog import Product
from ordnung.core.route_problem import Fitted, Part, Point, Problem, State, build_problem, good_points
from ordnung.core.route_search import Action, Found, find_route
from ordnung.core.rules import Target
from ordnung.core.versions import is_at_least, is_equal

REMOVAL_LIMIT = 300
"""How many sets of stranded components are tried when some exclude each other (R12)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Write:
    """One component written once. ``source`` is its active version then; seconds None is unknown (R22)."""

    slot: str
    product: str
    source: str
    to: str
    seconds: float | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Round:
    """Writes that share one reset; ``reset`` None when nothing needs one (R1).

    ``reset_seconds`` is the largest that the releases it makes active state (R16); ``activates``
    lists what is active after the round and was not before, as (slot, version).
    """

    writes: tuple[Write, ...]
    reset: str | None
    reset_seconds: float | None = None
    activates: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Stranded:
    """A component that cannot reach its target, and the smallest reason."""

    slot: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Route:
    """The answer for one server, with its proof: the bound and the states expanded."""

    rounds: tuple[Round, ...] = ()
    stranded: tuple[Stranded, ...] = ()
    outages: int = 0
    power_cycles: int = 0
    restarts: int = 0
    proven: bool = True
    expanded: int = 0
    bound_outages: int = 0

    @property
    def writes(self) -> tuple[Write, ...]:
        """All writes in order."""
        return tuple(write for step in self.rounds for write in step.writes)


def plan_route(positions: Sequence[Position]) -> Route:
    """The least-cost route of one server to its targets; stranded components are named with reasons."""
    fitted = {p.component.slot: _fit_up(p) for p in positions}
    barred = {slot: reason for slot, p in _by_slot(positions) if (reason := _bar(p, positions)) is not None}
    return _route_with(fitted, barred, downwards=False)


def plan_way_back(positions: Sequence[Position], back: Mapping[str, str]) -> Route:
    """The least-cost way back: each slot of ``back`` down to the version given (R24)."""
    fitted = {}
    for slot, position in _by_slot(positions):
        goal = back.get(slot)
        fitted[slot] = Fitted(position.component, position.product, goal, movable=goal is not None)
    barred = {
        slot: reason
        for slot, p in _by_slot(positions)
        if slot in back and (reason := _bar_back(p, back[slot], positions))
    }
    return _route_with(fitted, barred, downwards=True)


def _by_slot(positions: Iterable[Position]) -> list[tuple[str, Position]]:
    return sorted((p.component.slot, p) for p in positions)


def _fit_up(position: Position) -> Fitted:
    component, product, target = position.component, position.product, position.target
    target_version = target.version if target and not target.held else None
    if product is not None and target_version is not None and component.is_empty:
        return Fitted(component, product, target_version, movable=product.key(target_version) is not None)
    if product is None or component.version is None or target_version is None:
        return Fitted(component, product, held=_held_by(target))
    key, goal = product.key(component.version), product.key(target_version)
    below = key is not None and goal is not None and key < goal
    return Fitted(component, product, target_version, movable=below or component.has_waiting)


def _held_by(target: Target | None) -> str:
    """By which house rule it is held and why, as the rules are counted on the page; empty when it is not."""
    if target is None or not target.held:
        return ""
    by = f"rule {target.rule + 1}" if target.rule is not None else "a rule"
    return f"{by}, {target.reason}" if target.reason not in ("", "held") else by


def _bar(position: Position, positions: Iterable[Position]) -> str | None:
    """Why a component that is below its target can't be written at all, or None."""
    component, fitted = position.component, _fit_up(position)
    if not fitted.movable or fitted.target is None or fitted.product is None:
        return None
    product = fitted.product
    if component.shared:
        return _shared(position)
    if component.waiting and is_at_least(product.scheme, component.waiting, fitted.target, product.listed):
        return None
    if is_at_least(product.scheme, component.version or "", fitted.target, product.listed):
        return None
    if component.is_empty and not component.can_set_up:
        return f"{component.name} is {component.state}, and its controller does not let it be set up"
    if component.updateable is False and not component.is_empty:
        if component.untold:
            return f"its controller tells no version of {component.name}: that is known by the host report alone"
        if component.origin == "host report":
            return f"{component.name} stands in the host report alone: its controller does not list it"
        return f"{component.name} says that it can't be updated"
    if product.find(fitted.target) is None:
        return f"the catalog lacks {product.name} {fitted.target}"
    return _bar_alike(position, positions)


def _bar_alike(position: Position, positions: Iterable[Position]) -> str | None:
    """Why it can't be written without its like being written too, or None."""
    own, product = position.component, position.product
    alike = sum(other.product is product and other.component.slot != own.slot for other in positions)
    if not own.by_image or not alike:
        return None
    return f"its controller lets no component be named, and {alike} more of {own.name} would be written with it"


def _bar_back(position: Position, goal: str, positions: Iterable[Position]) -> str | None:
    """Why a component can't go back to the version wanted, as far as that is known of it alone, or None."""
    component, product = position.component, position.product
    active, waiting = component.version or "", component.waiting or ""
    if product is None:
        is_back = active.strip() == goal.strip() and not component.has_waiting
        return None if is_back else "it is in no catalog, so its way back is not known"
    if is_equal(product.scheme, active, goal, product.listed):
        waits = component.has_waiting and not is_equal(product.scheme, waiting, goal, product.listed)
        return f"{waiting} waits for a reset; once that has made it active, it can be taken back" if waits else None
    if component.shared:
        return _shared(position)
    if product.find(goal) is None:
        return f"the catalog lacks {product.name} {goal}"
    return _bar_alike(position, positions)


def _shared(position: Position) -> str:
    name = position.component.name
    return f"{name} is shared with the other servers of its enclosure: no run of one of them writes it"


def _freeze(fitted: Fitted) -> Fitted:
    return Fitted(fitted.component, fitted.product, None, movable=False)


def _route_with(fitted: dict[str, Fitted], barred: dict[str, str], *, downwards: bool) -> Route:
    reasons = dict(barred)
    while True:
        problem = _problem(fitted, reasons, downwards)
        fresh = _unreachable(problem)
        if not fresh:
            break
        reasons.update(fresh)
    found = find_route(problem)
    if found is None:
        reasons, problem, found = _leave_out(fitted, reasons, downwards)
    return _answer(problem, found, reasons)


def _problem(fitted: dict[str, Fitted], stranded: Iterable[str], downwards: bool) -> Problem:
    left_out = set(stranded)
    return build_problem(
        [_freeze(item) if slot in left_out else item for slot, item in fitted.items()], downwards=downwards
    )


def _leave_out(
    fitted: dict[str, Fitted], reasons: dict[str, str], downwards: bool
) -> tuple[dict[str, str], Problem, Found]:
    """Components that exclude each other: leave out as few as possible, then the cheapest (R12)."""
    movable = sorted(slot for slot, item in fitted.items() if item.movable and slot not in reasons)
    tried = 0
    for count in range(1, len(movable) + 1):
        best: tuple[tuple[object, ...], dict[str, str], Problem, Found] | None = None
        for removed in itertools.combinations(movable, count):
            tried += 1
            if tried > REMOVAL_LIMIT:
                removed = tuple(movable)
            why = {slot: _why_left_out(fitted, slot, downwards) for slot in removed}
            problem = _problem(fitted, {**reasons, **why}, downwards)
            found = find_route(problem)
            if found is not None and (best is None or (found.cost, removed) < best[0]):
                best = ((found.cost, removed), {**reasons, **why}, problem, found)
            if tried > REMOVAL_LIMIT:
                break
        if best is not None:
            return best[1], best[2], best[3]
    raise AssertionError("leaving out everything always leaves the empty route")


def _why_left_out(fitted: dict[str, Fitted], slot: str, downwards: bool) -> str:
    """Why one of those that exclude each other stays; on a way back, what needs it as it is (R24)."""
    held = next(_who_needs(fitted, slot), "") if downwards else ""
    return held or "the others can't move while this one does; left out so that they can"


def _who_needs(fitted: dict[str, Fitted], slot: str) -> Iterator[str]:
    """What is installed and needs a component above the version that it is to go back to."""
    product, goal = fitted[slot].product, fitted[slot].target
    assert product is not None and goal is not None
    for other in fitted.values():
        active = other.product.find(other.component.version or "") if other.product else None
        for need in active.needs if active and other.product else ():
            bound = need.at_least if need.product == product.id else None
            if bound is not None and not is_at_least(product.scheme, goal, bound, product.listed):
                name = other.product.name if other.product else other.component.name
                yield f"{name} {other.component.version} needs {product.name} {bound}: take that back first"


def _unreachable(problem: Problem) -> dict[str, str]:
    """Parts whose goal can't be reached even if every other part goes wherever it can."""
    reach = _relaxed_reach(problem)
    stuck = [index for index, part in enumerate(problem.parts) if part.has_goal and not part.goals & reach[index]]
    reasons: dict[str, str] = {}
    for index in stuck:
        reason = _why_stuck(problem, index, reach)
        reasons.update(dict.fromkeys(problem.parts[index].slots, reason))
    return reasons


def _relaxed_reach(problem: Problem) -> list[set[int]]:
    reach = [{0} | ({part.waiting} if part.waiting >= 0 else set()) for part in problem.parts]
    grown = True
    while grown:
        grown = False
        for index, part in enumerate(problem.parts):
            for at in list(reach[index]):
                for point in part.follows[at]:
                    if point not in reach[index] and _may_reach(problem, index, at, point, reach):
                        reach[index].add(point)
                        grown = True
    return reach


def _may_reach(problem: Problem, index: int, at: int, point: int, reach: list[set[int]]) -> bool:
    part = problem.parts[index]
    if not (part.floors[0] & part.floors[at]) >> point & 1:
        return False
    return all(any(mask >> p & 1 for p in reach[other]) for other, mask in part.conditions[point])


def _why_stuck(problem: Problem, index: int, reach: list[set[int]]) -> str:
    """The smallest reason: a need of the nearest blocked release, a floor, or a gap in the catalog."""
    part = problem.parts[index]
    product = part.product
    assert product is not None
    for point in range(1, len(part.points)):
        standing = [at for at in reach[index] if point in part.follows[at]]
        if point in reach[index] or not standing:
            continue
        version = part.points[point].version
        for at in (0, *standing):
            if not part.floors[at] >> point & 1:
                release = part.points[at].release
                floor = release.floor_after if release else None
                return f"no way back below {floor} once {part.points[at].version} is installed"
        return f"{product.name} {version} needs {_unmet(problem, part.points[point], reach)}"
    return _gap(part, product, reach[index])


def _unmet(problem: Problem, point: Point, reach: list[set[int]]) -> str:
    """The first need of a release that nothing fitted can come to meet."""
    assert point.release is not None
    need, needed = next(
        (need, part)
        for need in point.release.needs
        for part, reached in zip(problem.parts, reach, strict=True)
        if part.product is not None and part.product.id == need.product
        if not any(good_points(need, part) >> p & 1 for p in reached)
    )
    assert needed.product is not None
    return f"{needed.product.name} {need.at_least or f'below {need.below}'}, {_state_of(needed)}"


def _state_of(part: Part) -> str:
    version = part.points[0].version
    if not version:
        return "which could not be read"
    if part.held:
        return f"which is held at {version} by {part.held}"
    return f"which stays at {version}" if not part.movable else f"which can't get there from {version}"


def _gap(part: Part, product: Product, reached: set[int]) -> str:
    top = max(reached, key=lambda p: product.key(part.points[p].version) or ())
    have = part.points[top].version
    barred = [p for p in part.points if p.release and p.release.direct_from]
    for point in barred:
        assert point.release is not None and point.release.direct_from is not None
        if not is_at_least(product.scheme, have, point.release.direct_from, product.listed):
            needed = point.release.direct_from
            return f"the catalog lacks a release of {product.name} between {have} and {needed}"
    return f"the catalog has no release of {product.name} that leads on from {have}"


def _answer(problem: Problem, found: Found, reasons: dict[str, str]) -> Route:
    rounds = _rounds(problem, found.actions)
    return Route(
        rounds=rounds,
        stranded=tuple(Stranded(slot=slot, reason=reasons[slot]) for slot in sorted(reasons)),
        outages=found.cost[0],
        power_cycles=found.cost[1],
        restarts=found.cost[2],
        proven=found.proven,
        expanded=found.expanded,
        bound_outages=found.bound[0],
    )


Draft = list[tuple[list[Action], str | None]]


def _rounds(problem: Problem, actions: Sequence[Action]) -> tuple[Round, ...]:
    draft: Draft = [([], None)]
    for action in actions:
        if action[0] == "write":
            draft[-1][0].append(action)
        else:
            draft[-1] = (draft[-1][0], action[0])
            draft.append(([], None))
    if not draft[-1][0]:
        draft.pop()
    return _spell_out(problem, _settle(problem, draft))


def _settle(problem: Problem, draft: Draft) -> Draft:
    """Let each write stand in the round whose reset makes it active (R17.3), where the rules allow it.

    They don't where what it needs goes down meanwhile, by an older version that waits, and comes
    back with the very reset that makes the write active.
    """
    for place in range(len(draft)):
        for action in list(draft[place][0]):
            later = _activating_round(problem, draft, place, action)
            moved = [(list(writes), reset) for writes, reset in draft]
            moved[place][0].remove(action)
            moved[later][0].append(action)
            if later != place and _replay(problem, moved) is not None:
                draft = moved
    return [(_in_order(problem, draft, place), reset) for place, (_, reset) in enumerate(draft)]


def _activating_round(problem: Problem, draft: Draft, place: int, action: Action) -> int:
    kinds = ("power cycle", problem.parts[action[1]].points[action[2]].activation)
    if kinds[1] == "at once":
        return place
    return next(later for later in range(place, len(draft)) if draft[later][1] in kinds)


def _in_order(problem: Problem, draft: Draft, place: int) -> list[Action]:
    """Lexical order of slots within a round, save where one write must come after another (R17.5)."""
    first: list[Action] = []
    left = list(draft[place][0])
    while left:
        action = next(a for a in _by_slots(problem, left) if _may_lead(problem, draft, place, [*first, a]))
        first.append(action)
        left.remove(action)
    return first


def _by_slots(problem: Problem, writes: list[Action]) -> list[Action]:
    return sorted(writes, key=lambda a: problem.parts[a[1]].slots)


def _may_lead(problem: Problem, draft: Draft, place: int, first: list[Action]) -> bool:
    """Whether a round may begin with these writes: the others after them by slot, or as they stood."""
    writes, reset = draft[place]
    left = [a for a in writes if a not in first]
    return any(
        _replay(problem, [*draft[:place], ([*first, *rest], reset), *draft[place + 1 :]]) is not None
        for rest in (_by_slots(problem, left), left)
    )


def _replay(problem: Problem, draft: Draft) -> State | None:
    """Carry a draft out by the rules: the last state if all is allowed and the goal met, else None."""
    state: State | None = problem.start()
    for writes, reset in draft:
        for _, part, point in writes:
            state = problem.write(state, part, point) if state is not None else None
        if state is not None and reset is not None:
            state = problem.reset(state, reset)
        if state is None:
            return None
    return state if state is not None and problem.is_goal(state) else None


def _spell_out(problem: Problem, draft: Draft) -> tuple[Round, ...]:
    state = problem.start()
    rounds = []
    for actions, reset in draft:
        writes: list[Write] = []
        before = state
        for _, index, point in actions:
            part = problem.parts[index]
            source = part.points[state[index][0]].version
            target = part.points[point]
            seconds = target.release.write_seconds if target.release else None
            product = part.product.id if part.product else ""
            writes += [
                Write(slot=slot, product=product, source=source, to=target.version, seconds=seconds)
                for slot in part.slots
            ]
            after = problem.write(state, index, point)
            assert after is not None
            state = after
        seconds_away = _reset_seconds(problem, state, reset)
        if reset is not None:
            after = problem.reset(state, reset)
            assert after is not None
            state = after
        rounds.append(
            Round(
                writes=tuple(writes),
                reset=reset,
                reset_seconds=seconds_away,
                activates=_activated(problem, before, state),
            )
        )
    return tuple(rounds)


def _activated(problem: Problem, before: State, after: State) -> tuple[tuple[str, str], ...]:
    return tuple(
        sorted(
            (slot, part.points[new[0]].version)
            for part, old, new in zip(problem.parts, before, after, strict=True)
            if old[0] != new[0]
            for slot in part.slots
        )
    )


def _reset_seconds(problem: Problem, state: State, reset: str | None) -> float | None:
    if reset is None:
        return None
    stated = [
        point.release.reset_seconds
        for part, local in zip(problem.parts, state, strict=True)
        if local[1] >= 0
        and reset in ("power cycle", (point := part.points[local[1]]).activation)
        and point.release is not None
        and point.release.reset_seconds is not None
    ]
    return max(stated, default=None)
