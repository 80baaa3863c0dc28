"""The timetable of a run: when each server's steps are expected, under the limits on who may be away.

Whenever a place is free, the first server in the order given that may begin does, by the same function that the
engine asks (``core.away``). What has happened is not known here; the same picture is drawn over it.
"""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.away import AwayLimits, AwayPlace, may_begin
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
    routes: Sequence[tuple[AwayPlace, Route]], limits: AwayLimits, occupied: Sequence[AwayPlace] = ()
) -> Timetable:
    """Lay servers out in order.

    Args:
        routes: the place each server takes and its route, in the order in which they should go.
        limits: how many may be away and worked on at once.
        occupied: places that are taken for the whole time: servers left away.

    A server whose place never gets free has an empty lane.
    """
    waiting = [(place, itinerary(route)) for place, route in routes]
    running: list[tuple[float, str]] = []
    taken = {place.server: place for place in occupied}
    lanes: dict[str, Lane] = {place.server: Lane(server=place.server, spans=()) for place, _ in routes}
    now = 0.0
    while waiting:
        chosen = next((w for w in waiting if may_begin(taken.values(), limits, w[0]) is None), None)
        if chosen is None:
            if not running:
                break
            now, gone = heapq.heappop(running)
            del taken[gone]
            continue
        waiting.remove(chosen)
        place, spans = chosen
        lanes[place.server] = Lane(server=place.server, spans=tuple(_shift(span, now) for span in spans))
        if spans:
            taken[place.server] = place
            heapq.heappush(running, (lanes[place.server].end, place.server))
    return Timetable(
        lanes=tuple(lanes[place.server] for place, _ in routes),
        makespan=max((lane.end for lane in lanes.values()), default=0.0),
        bound=_bound(routes, limits),
    )


def _shift(span: Span, by: float) -> Span:
    return Span(kind=span.kind, start=span.start + by, end=span.end + by, label=span.label)


def _bound(routes: Sequence[tuple[AwayPlace, Route]], limits: AwayLimits) -> float:
    lengths = [(place, spans[-1].end) for place, route in routes if (spans := itinerary(route))]
    longest = max((length for _, length in lengths), default=0.0)
    per_group = [
        sum(length for place, length in lengths if name in place.groups and place.outage) / limit
        for name, limit in limits.groups.items()
        if limit
    ]
    return max([longest, sum(length for _, length in lengths) / limits.at_once, *per_group])
