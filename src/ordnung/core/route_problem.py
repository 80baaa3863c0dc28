"""A server's planning problem compiled into small tables (rules R2 to R15).

Components of one product at one version move as one *part* (R2b) unless a release of theirs
must be written alone. Each part has *points*: the versions it can stand at, point 0 being the
active one at the start. Conditions between parts become bit masks over points, so that the
search asks nothing about versions.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ordnung.core.catalog import Need, Product, Release
from ordnung.core.components import Component
from ordnung.core.versions import is_at_least, is_below, is_equal

NONE_WAITING = -1


@dataclass(frozen=True, slots=True)
class Fitted:
    """A component with its product and what is wanted of it.

    ``target`` None means that nothing is wanted; ``movable`` that it may be written; ``held`` says which rule holds it.
    """

    component: Component
    product: Product | None
    target: str | None = None
    movable: bool = False
    held: str = ""


@dataclass(frozen=True, slots=True)
class Point:
    """One version a part can stand at; ``release`` is its catalog record, if there is one."""

    version: str
    release: Release | None

    @property
    def activation(self) -> str:
        """What makes it active; unknown means a power cycle, the one reset that is sure (R3)."""
        return (self.release.activation if self.release else None) or "power cycle"

    @property
    def milliseconds(self) -> int:
        """Write time in ms, unknown counts as 0 (R16); whole numbers keep costs exact."""
        seconds = self.release.write_seconds if self.release else None
        return round((seconds or 0) * 1000)

    @property
    def alone(self) -> bool:
        """Whether it must be written alone (R2)."""
        return bool(self.release and self.release.alone)


@dataclass(slots=True)
class Part:
    """Equal components that move together, with the tables of their points."""

    slots: tuple[str, ...]
    product: Product | None
    points: list[Point]
    waiting: int
    movable: bool
    has_goal: bool
    goals: frozenset[int]
    follows: list[tuple[int, ...]]
    """Per point the points that may be written over it (direction, direct_from, R14, R23)."""
    floors: list[int]
    """Per point the mask of points still allowed once it is active (R15)."""
    conditions: list[tuple[tuple[int, int], ...]]
    """Per point its needs as (part, mask of good points) (R13, R14)."""
    free: bool = False
    held: str = ""
    """Which house rule holds it, and why; for reasons only."""


Local = tuple[int, int, int]
"""(active point, waiting point or -1, mask of points the floors still allow)"""
State = tuple[Local, ...]


@dataclass(slots=True)
class Problem:
    """The parts of one server; ``ask_all`` is the stricter rule of a way back (R24)."""

    parts: list[Part]
    ask_all: bool
    monotone: bool = False
    """No release is to be written alone and every need is a lower bound: going up hurts no one."""

    def start(self) -> State:
        """The state as read."""
        return tuple((0, part.waiting, part.floors[0]) for part in self.parts)

    def is_goal(self, state: State) -> bool:
        """Whether every wanted part is active at its target or above (R10)."""
        return all(not part.has_goal or local[0] in part.goals for part, local in zip(self.parts, state, strict=True))

    def holds(self, state: State, part: int, point: int) -> bool:
        """Whether the needs of a point hold for the active versions of ``state`` (R13)."""
        return all(mask >> state[other][0] & 1 for other, mask in self.parts[part].conditions[point])

    def is_sound(self, state: State) -> bool:
        """Whether after an activation every installed release has its needs (R7, R24)."""
        return all(
            self.holds(state, index, local[0]) for index, local in enumerate(state) if self.ask_all or local[0] != 0
        )

    def write(self, state: State, part: int, point: int) -> State | None:
        """The state after writing ``point`` to ``part``, or None where a rule forbids it."""
        active, waiting, allowed = state[part]
        mine = self.parts[part]
        if waiting != NONE_WAITING or not allowed >> point & 1 or point not in mine.follows[active]:
            return None
        if not self.holds(state, part, point) or self._keeps_bad_company(state, mine.points[point]):
            return None
        if mine.points[point].activation == "at once":
            after = _put(state, part, (point, NONE_WAITING, allowed & mine.floors[point]))
            return after if self.is_sound(after) else None
        return _put(state, part, (active, point, allowed))

    def _keeps_bad_company(self, state: State, writing: Point) -> bool:
        for part, (_, waiting, _) in zip(self.parts, state, strict=True):
            if waiting != NONE_WAITING and (writing.alone or part.points[waiting].alone):
                return True
        return False

    def reset(self, state: State, kind: str) -> State | None:
        """The state after a reset, or None when it makes nothing active (R8) or breaks a need (R7)."""
        after = tuple(
            (local[1], NONE_WAITING, local[2] & part.floors[local[1]])
            if local[1] != NONE_WAITING and kind in ("power cycle", part.points[local[1]].activation)
            else local
            for part, local in zip(self.parts, state, strict=True)
        )
        return after if after != state and self.is_sound(after) else None


def _put(state: State, index: int, local: Local) -> State:
    return (*state[:index], local, *state[index + 1 :])


def build_problem(fitted: Sequence[Fitted], *, downwards: bool = False) -> Problem:
    """Compile the components of one server.

    Args:
        fitted: every component; unlisted ones matter only while something waits in them.
        downwards: a way back: writes go down, the goal is the target exactly, R24 holds.
    """
    groups = _group(fitted)
    parts = [_build_part(group, downwards) for group in groups]
    by_product: dict[str, list[int]] = {}
    for index, part in enumerate(parts):
        if part.product is not None:
            by_product.setdefault(part.product.id, []).append(index)
    for part in parts:
        part.conditions = [_conditions(point, parts, by_product) for point in part.points]
    releases = [point.release for part in parts for point in part.points if point.release]
    company = not any(release.alone for release in releases)
    rising = not downwards and all(need.below is None for release in releases for need in release.needs)
    if company:
        _mark_free(parts)
    return Problem(parts, ask_all=downwards, monotone=company and rising)


def _group(fitted: Sequence[Fitted]) -> list[list[Fitted]]:
    groups: dict[tuple[object, ...], list[Fitted]] = {}
    for item in sorted(fitted, key=lambda f: f.component.slot):
        if item.product is None and not item.component.has_waiting:
            continue
        single = item.product is None or any(r.alone for r in item.product.releases)
        key = (
            item.product.id if item.product else None,
            item.component.version,
            item.component.state if item.component.is_empty else None,
            item.component.waiting,
            item.target,
            item.movable,
            item.held,
            item.component.slot if single else None,
        )
        groups.setdefault(key, []).append(item)
    return list(groups.values())


def _build_part(group: list[Fitted], downwards: bool) -> Part:
    first, product = group[0], group[0].product
    version = first.component.standing
    points = [Point(version, product.find(version) if product else None)]
    if product is not None and first.movable:
        points += _candidates(product, first, downwards)
    waiting = NONE_WAITING
    if first.component.has_waiting and not _equal(product, version, first.component.waiting or ""):
        waiting = _waiting_point(points, product, first.component.waiting or "")
    return Part(
        slots=tuple(item.component.slot for item in group),
        product=product,
        points=points,
        waiting=waiting,
        movable=first.movable,
        has_goal=first.movable and first.target is not None,
        goals=_goals(points, product, first.target, downwards),
        follows=[_follows(points, at, first, downwards) for at in range(len(points))],
        floors=[_floor_mask(point, points, product) for point in points],
        conditions=[],
        held=first.held,
    )


def _equal(product: Product | None, one: str, other: str) -> bool:
    if product is None:
        return one.strip() == other.strip()
    return is_equal(product.scheme, one, other, product.listed)


def _candidates(product: Product, fitted: Fitted, downwards: bool) -> list[Point]:
    """Releases between where the component may stand and the target, the target included.

    A waiting version below the active one counts: once a reset made it active, the way starts there.
    """
    component = fitted.component
    goal = product.key(fitted.target) if fitted.target else None
    active = product.key(component.version or "")
    stands = [active, product.key(component.waiting)] if component.waiting else [active]
    starts = [key for key in stands if key is not None]
    if goal is not None and component.is_empty:
        return [Point(r.version, r) for r in product.ordered if (key := product.key(r.version)) and key <= goal]
    if goal is None or not starts:
        return []
    low, high = (goal, max(starts)) if downwards else (min(starts), goal)
    return [
        Point(release.version, release)
        for release in product.ordered
        if (key := product.key(release.version)) is not None and low <= key <= high and key != active
    ]


def _waiting_point(points: list[Point], product: Product | None, waiting: str) -> int:
    for index, point in enumerate(points[1:], start=1):
        if _equal(product, point.version, waiting):
            if point.activation != "at once":
                return index
            break
    release = product.find(waiting) if product else None
    if release is not None and release.activation == "at once":
        # R3: found waiting although it should have been active at once: only a power cycle is sure.
        release = dataclasses.replace(release, activation=None)
    points.append(Point(waiting, release))
    return len(points) - 1


def _goals(points: list[Point], product: Product | None, target: str | None, downwards: bool) -> frozenset[int]:
    if product is None or target is None:
        return frozenset()
    check = is_equal if downwards else is_at_least
    return frozenset(
        index for index, point in enumerate(points) if check(product.scheme, point.version, target, product.listed)
    )


def _follows(points: list[Point], at: int, fitted: Fitted, downwards: bool) -> tuple[int, ...]:
    product = fitted.product
    if product is None or not fitted.movable:
        return ()
    if at == 0 and fitted.component.is_empty:
        return _fills(points)
    have = product.key(points[at].version)
    if have is None:
        return ()
    return tuple(
        index
        for index, point in enumerate(points)
        if point.release is not None
        and (key := product.key(point.version)) is not None
        and (key < have if downwards else key > have)
        and _direct(point.release, points[at].version, product)
    )


def _fills(points: list[Point]) -> tuple[int, ...]:
    """The points that may be written to a partition with nothing on it: those that follow on nothing (R25)."""
    return tuple(at for at, point in enumerate(points) if point.release and point.release.direct_from is None)


def _direct(release: Release, over: str, product: Product) -> bool:
    return release.direct_from is None or is_at_least(product.scheme, over, release.direct_from, product.listed)


def _floor_mask(point: Point, points: list[Point], product: Product | None) -> int:
    floor = point.release.floor_after if point.release else None
    if floor is None or product is None:
        return (1 << len(points)) - 1
    return sum(
        1 << index
        for index, other in enumerate(points)
        if is_at_least(product.scheme, other.version, floor, product.listed)
    )


def _conditions(point: Point, parts: list[Part], by_product: Mapping[str, list[int]]) -> tuple[tuple[int, int], ...]:
    needs = point.release.needs if point.release else ()
    return tuple(
        (index, good_points(need, parts[index])) for need in needs for index in by_product.get(need.product, ())
    )


def good_points(need: Need, part: Part) -> int:
    """The points of a part, as a bit mask, at which a need of its product holds."""
    product = part.product
    assert product is not None
    mask = 0
    for index, point in enumerate(part.points):
        good = need.at_least is None or is_at_least(product.scheme, point.version, need.at_least, product.listed)
        if good and need.below is not None:
            good = is_below(product.scheme, point.version, need.below, product.listed)
        mask |= (1 << index) if good else 0
    return mask


def _mark_free(parts: list[Part]) -> None:
    """Mark the parts no one depends on and that depend on no one.

    Without ``alone`` releases in sight such a part is never worse off for being written as soon
    as it can be: the search may do so at once and branch on nothing else.
    """
    referred = {index for part in parts for conditions in part.conditions for index, _ in conditions}
    for index, part in enumerate(parts):
        part.free = index not in referred and not any(part.conditions)
