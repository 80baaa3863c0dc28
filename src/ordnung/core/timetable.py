"""The timetable of a run: when each server's steps are expected, under the limits on who may be away.

Whenever a place is free, the first server in the order given whose group has a place begins, as the
engine does it. What has happened is not known here; the same picture is drawn over it.
"""

from __future__ import annotations

import heapq
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ordnung.core.route import Route

WRITE_SECONDS, RESET_SECONDS = 120.0, 300.0
"""Taken where a catalog doesn't say."""
STAGE_SECONDS, CHECK_SECONDS = 15.0, 20.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """One step: ``kind`` is staging, writing, a reset kind or checking; seconds from the run's start."""

    kind: str
    start: float
    end: float
    label: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Lane:
    """One server's expected steps."""

    server: str
    spans: tuple[Span, ...]

    @property
    def end(self) -> float:
        """When the server is expected to be done."""
        return self.spans[-1].end if self.spans else 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Timetable:
    """All lanes, the makespan and the lower bound of any schedule under the same limits (seconds)."""

    lanes: tuple[Lane, ...]
    makespan: float
    bound: float


def itinerary(route: Route) -> tuple[Span, ...]:
    """The steps of one server from its own start."""
    spans: list[Span] = []
    at = 0.0
    for step in route.rounds:
        for write in step.writes:
            spans.append(Span(kind="staging", start=at, end=at + STAGE_SECONDS, label=f"{write.slot} {write.to}"))
            at += STAGE_SECONDS
            took = WRITE_SECONDS if write.seconds is None else write.seconds
            spans.append(Span(kind="writing", start=at, end=at + took, label=f"{write.slot} {write.to}"))
            at += took
        if step.reset is not None:
            took = RESET_SECONDS if step.reset_seconds is None else step.reset_seconds
            spans.append(Span(kind=step.reset, start=at, end=at + took))
            at += took
        spans.append(Span(kind="checking", start=at, end=at + CHECK_SECONDS))
        at += CHECK_SECONDS
    return tuple(spans)


def plan_timetable(
    routes: Sequence[tuple[str, str | None, Route]], limits: Mapping[str, int], at_once: int
) -> Timetable:
    """Lay servers out in order.

    Args:
        routes: (server, group or None, route), in the order in which they should go.
        limits: how many of a group may be away at once; a group without limit has none.
        at_once: how many servers may be worked on at once.
    """
    waiting = [(server, group or "", itinerary(route)) for server, group, route in routes]
    running: list[tuple[float, str]] = []
    lanes: dict[str, Lane] = {}
    now = 0.0
    while waiting:
        chosen = next((w for w in waiting if _has_place(w[1], running, limits, at_once)), None)
        if chosen is None:
            now, _ = heapq.heappop(running)
            continue
        waiting.remove(chosen)
        server, group, spans = chosen
        lanes[server] = Lane(server=server, spans=tuple(_shift(span, now) for span in spans))
        if spans:
            heapq.heappush(running, (lanes[server].end, group))
    return Timetable(
        lanes=tuple(lanes[server] for server, _, _ in routes),
        makespan=max((lane.end for lane in lanes.values()), default=0.0),
        bound=_bound(routes, limits, at_once),
    )


def _has_place(group: str, running: Sequence[tuple[float, str]], limits: Mapping[str, int], at_once: int) -> bool:
    """Whether one more server of ``group`` may begin: the same question the engine asks."""
    mine = sum(1 for _, other in running if other == group)
    return len(running) < at_once and mine < limits.get(group, at_once)


def _shift(span: Span, by: float) -> Span:
    return Span(kind=span.kind, start=span.start + by, end=span.end + by, label=span.label)


def _bound(routes: Sequence[tuple[str, str | None, Route]], limits: Mapping[str, int], at_once: int) -> float:
    lengths = [(group or "", spans[-1].end) for _, group, route in routes if (spans := itinerary(route))]
    longest = max((length for _, length in lengths), default=0.0)
    per_group = [sum(length for name, length in lengths if name == group) / limit for group, limit in limits.items()]
    return max([longest, sum(length for _, length in lengths) / at_once, *per_group])
