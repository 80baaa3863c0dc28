"""The route search against a plain breadth-first oracle that reads the rules literally, slot by slot."""

from __future__ import annotations

import heapq
import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ordnung.core.catalog import Need, Product, Release
from ordnung.core.components import Component
from ordnung.core.route import Route, plan_route
from ordnung.core.route_problem import Fitted, build_problem
from ordnung.core.route_search import find_route, moves
from tests.core.houses import ONCE, POWER, REBOOT, RESTART, component, positions, product

NAMES = ("pa", "pb", "pc")
KINDS = (RESTART, REBOOT, POWER)


@st.composite
def houses(draw) -> tuple[list[Product], list[Component]]:
    products = []
    for name in NAMES[: draw(st.integers(1, 3))]:
        releases = []
        for n in range(1, draw(st.integers(2, 4))):
            needs = ()
            if draw(st.integers(0, 3)) == 0:
                other = draw(st.sampled_from(NAMES))
                bound = str(draw(st.integers(1, 3)))
                needs = (
                    Need(product=other, below=bound)
                    if draw(st.integers(0, 4)) == 0
                    else Need(product=other, at_least=bound),
                )
            releases.append(
                Release(
                    version=str(n),
                    activation=draw(st.sampled_from((ONCE, RESTART, REBOOT, REBOOT, POWER, None))),
                    direct_from=str(n - 1) if n > 1 and draw(st.booleans()) else None,
                    needs=needs,
                    alone=draw(st.integers(0, 5)) == 0,
                    write_seconds=draw(st.sampled_from((None, 10, 30))),
                )
            )
        products.append(product(name, *releases))
    parts = []
    for n in range(draw(st.integers(1, 3))):
        of = draw(st.sampled_from(products))
        if draw(st.integers(0, 5)) == 0:  # a service partition with nothing on it (N4.8)
            parts.append(component(f"slot-{n}", of.id, None, state="blank", can_set_up=True))
            continue
        version = draw(st.sampled_from([r.version for r in of.releases]))
        waiting = draw(st.sampled_from([None, None, *(r.version for r in of.releases)]))
        parts.append(component(f"slot-{n}", of.id, version, waiting))
    return products, parts


State = tuple[tuple[int, int], ...]  # per component: active, waiting (0 = none)


class Oracle:
    """Dijkstra over every legal action; versions are small whole numbers."""

    def __init__(self, products: list[Product], parts: list[Component]) -> None:
        self.parts = parts
        self.of = [next(p for p in products if p.id == c.software_id) for c in parts]
        self.goal = [len(p.releases) for p in self.of]
        self.start: State = tuple(
            (int(c.version or 0), int(c.waiting) if c.waiting and c.waiting != c.version else 0) for c in parts
        )

    def record(self, index: int, version: int) -> Release:
        return self.of[index].releases[version - 1]

    def activation(self, index: int, version: int) -> str:
        kind = self.record(index, version).activation or POWER
        found_waiting = self.start[index][1] == version and kind == ONCE
        return POWER if found_waiting else kind

    def needs_hold(self, state: State, index: int, version: int) -> bool:
        for need in self.record(index, version).needs:
            for other, (active, _) in enumerate(state):
                if self.of[other].id == need.product:
                    if need.at_least and active < int(need.at_least):
                        return False
                    if need.below and (not active or active >= int(need.below)):
                        return False
        return True

    def sound(self, state: State) -> bool:
        return all(
            active == self.start[i][0] or self.needs_hold(state, i, active) for i, (active, _) in enumerate(state)
        )

    def writes(self, state: State):
        waits = [(i, w) for i, (_, w) in enumerate(state) if w]
        for index, (active, waiting) in enumerate(state):
            for version in range(active + 1, self.goal[index] + 1):
                record = self.record(index, version)
                if waiting or (record.direct_from and active < int(record.direct_from)):
                    continue
                if not self.needs_hold(state, index, version):
                    continue
                if waits and (record.alone or any(self.record(i, w).alone for i, w in waits)):
                    continue
                once = record.activation == ONCE
                after = list(state)
                after[index] = (version, 0) if once else (active, version)
                if not once or self.sound(tuple(after)):
                    yield (0, 0, 0, 1, (record.write_seconds or 0)), tuple(after)

    def resets(self, state: State):
        for kind, price in zip(KINDS, ((0, 0, 1, 0, 0), (1, 0, 0, 0, 0), (1, 1, 0, 0, 0)), strict=True):
            after = tuple(
                (w, 0) if w and kind in (POWER, self.activation(i, w)) else (a, w) for i, (a, w) in enumerate(state)
            )
            if after != state and self.sound(after):
                yield price, after

    def best(self):
        queue = [((0, 0, 0, 0, 0), self.start)]
        seen = set()
        while queue:
            cost, state = heapq.heappop(queue)
            if state in seen:
                continue
            seen.add(state)
            # R6: only components below their target ask for anything.
            if all(active >= goal for (active, _), goal in zip(state, self.goal, strict=True)):
                return cost
            for price, after in itertools.chain(self.writes(state), self.resets(state)):
                heapq.heappush(queue, (tuple(map(sum, zip(cost, price, strict=True))), after))
        return None


def cost_of(route: Route):
    return (
        route.outages,
        route.power_cycles,
        route.restarts,
        len(route.writes),
        sum(w.seconds or 0 for w in route.writes),
    )


@pytest.mark.exhaustive
@given(houses())
@settings(max_examples=300, deadline=None)
def test_the_search_finds_what_brute_force_finds(house):
    products, parts = house
    route = plan_route(positions(products, parts, ()))
    best = Oracle(products, parts).best()
    if best is None:
        assert route.stranded
    else:
        assert not route.stranded and route.proven
        assert cost_of(route) == best


@pytest.mark.exhaustive
@given(houses(), st.randoms())
@settings(max_examples=100, deadline=None)
def test_shuffled_input_gives_the_same_route(house, random):
    products, parts = house
    mixed = list(parts)
    random.shuffle(mixed)
    assert plan_route(positions(products, parts, ())) == plan_route(positions(products, mixed, ()))


@given(houses())
@settings(max_examples=100, deadline=None)
def test_planning_after_carrying_out_gives_the_empty_plan(house):
    products, parts = house
    route = plan_route(positions(products, parts, ()))
    if route.stranded:
        return
    active = {c.slot: c for c in parts}
    waiting: dict[str, str] = {c.slot: c.waiting for c in parts if c.has_waiting}
    catalog = {p.id: p for p in products}
    oracle = Oracle(products, parts)
    for step in route.rounds:
        for write in step.writes:
            record = catalog[write.product].find(write.to)
            if record.activation == ONCE:
                active[write.slot] = component(write.slot, write.product, write.to)
            else:
                waiting[write.slot] = write.to
        for slot, version in list(waiting.items()):
            index = [c.slot for c in parts].index(slot)
            if step.reset in (POWER, oracle.activation(index, int(version))):
                active[slot] = component(slot, active[slot].software_id, version)
                del waiting[slot]
    after = [component(s, c.software_id, c.version, waiting.get(s)) for s, c in active.items()]
    again = plan_route(positions(products, after, ()))
    assert again.rounds == () and not again.stranded


@given(houses(), st.integers(1, 12))
@settings(max_examples=200, deadline=None)
def test_a_search_that_grew_too_large_still_tells_a_route_that_holds_and_how_far_it_may_be_off(house, limit):
    products, parts = house
    of = {p.id: p for p in products}
    fitted = []
    for part in parts:
        last = of[part.software_id].releases[-1].version
        fitted.append(Fitted(part, of[part.software_id], last, movable=part.version != last or part.has_waiting))
    problem = build_problem(fitted)
    whole, cut = find_route(problem), find_route(problem, limit)
    if cut is None or whole is None:
        assert whole is None or not cut
        return
    assert cut.bound <= whole.cost <= cut.cost
    assert not cut.proven or cut.cost == whole.cost
    state, spent = problem.start(), (0, 0, 0, 0, 0)
    for action in cut.actions:
        price, state = next((p, after) for told, p, after in moves(problem, state) if told == action)
        spent = tuple(a + b for a, b in zip(spent, price, strict=True))
    assert problem.is_goal(state) and spent == cut.cost
