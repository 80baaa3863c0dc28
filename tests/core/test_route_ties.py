"""Rule R17: among all routes of least cost the one the tie rules choose, against full enumeration."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from hypothesis import given, settings

from ordnung.core.route import Route, plan_route
from tests.core.houses import ONCE, POWER, positions
from tests.core.test_route_oracle import KINDS, Oracle, cost_of, houses

Story = list[tuple[str, int, int]]
"""("write", component, version) or (reset kind, -1, -1), in order"""
LIMIT = 20_000


class Enumerator(Oracle):
    """Every route of a given cost, action by action."""

    def moves(self, state):
        for price, after in self.writes(state):
            index = next(i for i, (a, b) in enumerate(zip(state, after, strict=True)) if a != b)
            version = after[index][1] or after[index][0]
            yield ("write", index, version), price, after
        for price, after in self.resets(state):
            yield (KINDS[[(0, 0, 1, 0, 0), (1, 0, 0, 0, 0), (1, 1, 0, 0, 0)].index(price)], -1, -1), price, after

    def all_of(self, cost) -> Iterator[Story]:
        budget = LIMIT
        stack = [(self.start, (0, 0, 0, 0, 0), [])]
        while stack:
            state, spent, story = stack.pop()
            budget -= 1
            if budget < 0:
                return
            if all(active >= goal for (active, _), goal in zip(state, self.goal, strict=True)):
                if spent == cost:
                    yield story
                continue
            for action, price, after in self.moves(state):
                total = tuple(map(sum, zip(spent, price, strict=True)))
                if total <= cost and all(a <= b for a, b in zip(total[:1], cost[:1], strict=True)):
                    stack.append((after, total, [*story, action]))

    def key(self, story: Story):
        """R17, rules 1 to 3: stops from the last back, the order of resets, how many are active by each."""
        stops: list[list[int]] = [[] for _ in self.parts]
        resets: list[int] = []
        counts = [0]
        waiting = {i: w for i, (_, w) in enumerate(self.start) if w}
        for kind, index, version in story:
            if kind == "write":
                stops[index].append(-version)
                if self.record(index, version).activation == ONCE:
                    counts[-1] -= 1
                else:
                    waiting[index] = version
                continue
            resets.append(KINDS.index(kind))
            became = [i for i, w in waiting.items() if kind in (POWER, self.activation(i, w))]
            counts[-1] -= len(became)
            for i in became:
                del waiting[i]
            counts.append(0)
        return tuple(tuple(reversed(s)) for s in stops), tuple(resets), tuple(counts)


def story_of(route: Route, slots: list[str]) -> Story:
    story: Story = []
    for step in route.rounds:
        story += [("write", slots.index(w.slot), int(w.to)) for w in step.writes]
        if step.reset:
            story.append((step.reset, -1, -1))
    return story


@pytest.mark.exhaustive
@given(houses())
@settings(max_examples=120, deadline=None)
def test_no_route_of_least_cost_is_preferred_to_the_one_given(house):
    products, parts = house
    route = plan_route(positions(products, parts, ()))
    if route.stranded:
        return
    oracle = Enumerator(products, parts)
    mine = oracle.key(story_of(route, [part.slot for part in parts]))
    for story in oracle.all_of(cost_of(route)):
        assert mine <= oracle.key(story), story


@pytest.mark.exhaustive
@given(houses())
@settings(max_examples=120, deadline=None)
def test_a_route_obeys_every_rule_step_by_step(house):
    """The route given is one that the literal rules allow, and it ends at the goal."""
    products, parts = house
    route = plan_route(positions(products, parts, ()))
    if route.stranded:
        return
    oracle = Enumerator(products, parts)
    state = oracle.start
    for wanted in story_of(route, [part.slot for part in parts]):
        state = next(after for action, _, after in oracle.moves(state) if action == wanted)
    assert all(active >= goal for (active, _), goal in zip(state, oracle.goal, strict=True))
