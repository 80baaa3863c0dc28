"""The night of a run: its limits, its timetable as it was drawn, and what it will probably come to."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.away import AwayPlace
from ordnung.core.night.costs import Costs, count_costs
from ordnung.core.night.forecast import Forecast, Happened, Quantiles, forecast
from ordnung.core.night.itinerary import Duty, Itinerary, duty_of_rounds, plan_itinerary
from ordnung.core.night.limits import GroupLimit, NightLimits
from ordnung.core.night.placing import Placed
from ordnung.core.night.timetable import Seat, Timetable, plan_timetable
from ordnung.core.sheet import has_outage
from ordnung.engine.entry_codec import parse_rounds
from ordnung.server.assessment.current import current_assessment
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server
from ordnung.server.runs.derived import load_acts, taken_places
from ordnung.server.runs.journal import away_limits
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.story import SpanRow, tell_steps

SAMPLES, MANY, SAMPLES_OF_MANY = 1000, 200, 200
LOOKED_AT = 5
"""Of so many limits that delay it is worked out what one place more would change."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ChanceRow(Quantiles):
    server: str


@dataclass(frozen=True, slots=True, kw_only=True)
class DelayRow:
    limit: str
    server_minutes: float
    with_more_seconds: float | None
    """By how much the planned end comes earlier with one place more; None where that was not worked out."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ForecastRow:
    samples: int
    end: Quantiles
    servers: list[ChanceRow]
    delay: DelayRow | None
    costs: Costs
    assumed: list[str]
    """Servers of which some step rests on usual times, nothing being known of it (T1)."""


def night_limits() -> NightLimits:
    """What a night keeps at this site now."""
    limits = away_limits()
    groups = tuple(GroupLimit(name=name, may_be_away=allowed) for name, allowed in limits.groups.items())
    kept = tuple(place for place in taken_places() if place.kept)
    return NightLimits(at_once=limits.at_once, groups=groups, occupied=kept, holds_early=True)


def place_of(row: Server, outage: bool, group: str = "") -> AwayPlace:
    """What a server takes of the site's limits while it is worked on."""
    name = group or (row.group.name if row.group else "")
    return AwayPlace(
        server=row.name, groups=(name,) if name else (), rack=row.rack or None, room=row.room or None, outage=outage
    )


def lane_of(placed: Placed) -> list[dict[str, object]]:
    """A server's planned steps, as they are kept with the run: kind, what, seconds from the start."""
    return [
        {
            "kind": step.kind,
            "start": at,
            "end": at + step.seconds,
            "label": f"{step.slot} {step.to}" if step.slot else "",
        }
        for at, step in zip(placed.starts, placed.itinerary.steps, strict=True)
    ]


def forecast_row(run: Run) -> ForecastRow:
    """What a run will probably come to; of one under way, by what has happened so far (F5)."""
    places = list(run.servers.select_related("server", "server__group"))
    limits = night_limits()
    duties = {place.server.name: _duty(place) for place in places}
    timetable = _as_drawn([place for place in places if not place.ended], duties, limits)
    story, at = _story(run, timetable)
    samples = SAMPLES if len(places) <= MANY else SAMPLES_OF_MANY
    found = forecast(timetable, limits, samples=samples, seed=run.pk, story=story, now=at)
    planned = [plan_itinerary(duty, limits) for duty in duties.values()]
    end = found.end if timetable.seats else Quantiles(p50=at, p90=at, p99=at)
    return ForecastRow(
        samples=found.samples,
        end=end,
        servers=[ChanceRow(server=c.server, p50=c.done.p50, p90=c.done.p90, p99=c.done.p99) for c in found.servers],
        delay=_delay(found, timetable, list(duties.values()), limits) if run.state == Run.State.DRAFT else None,
        costs=count_costs(duties.values(), limits),
        assumed=sorted(i.server for i in planned if any(s.assumed and s.kind != "staging" for s in i.steps)),
    )


def _duty(place: RunServer) -> Duty:
    rounds = parse_rounds(place.rounds)
    duty = duty_of_rounds(place_of(place.server, has_outage(rounds), place.group), "", rounds)
    products = current_assessment().catalogs.by_id
    for write in duty.route.writes:
        product, known = products.get(write.product), duty.releases[write.slot, write.to]
        release = product.find(write.to) if product else None
        if release is not None and known is not None:
            told = dataclasses.replace(known, activation=release.activation, alone=release.alone)
            duty.releases[write.slot, write.to] = told
    return duty


def _as_drawn(places: Sequence[RunServer], duties: dict[str, Duty], limits: NightLimits) -> Timetable:
    """The timetable that was kept with the run; worked out anew for what was drafted by an earlier Ordnung."""
    seats = []
    for place in places:
        itinerary = plan_itinerary(duties[place.server.name], limits)
        if not place.lane or not itinerary.steps:
            continue
        if [span["kind"] for span in place.lane] != [step.kind for step in itinerary.steps]:
            return plan_timetable([duties[p.server.name] for p in places], limits)
        starts = tuple(float(span["start"]) for span in place.lane)
        seats.append(Seat(placed=Placed(itinerary, starts), wave=None, window=None))
    return Timetable(seats=tuple(sorted(seats, key=lambda s: (s.placed.begins, s.server))), left=(), bound=0.0)


def _story(run: Run, timetable: Timetable) -> tuple[dict[str, list[Happened]], float]:
    """What has happened on each server by now, step by step; a story that is not the planned one is told no further."""
    if run.started_at is None:
        return {}, 0.0
    acts = load_acts(run)
    told = {}
    for seat in timetable.seats:
        spans = tell_steps(acts.get(seat.server, []), run.started_at)
        told[seat.server] = _match(seat.placed.itinerary, spans)
    until = run.ended_at or now()
    return told, (until - run.started_at).total_seconds()


def _match(itinerary: Itinerary, spans: Sequence[SpanRow]) -> list[Happened]:
    found: list[Happened] = []
    left = list(spans)
    for step in itinerary.steps:
        if left and left[0].kind != step.kind == "checking":
            # Where nothing was reset nothing is told of the check.
            found.append(Happened(left[0].start, left[0].start))
            continue
        if not left or left[0].kind != step.kind:
            break
        span = left.pop(0)
        found.append(Happened(span.start, span.end))
    return found


def _delay(found: Forecast, timetable: Timetable, duties: list[Duty], limits: NightLimits) -> DelayRow | None:
    """The limit of which one place more would end the run earliest, else the one that delays most."""
    asked = found.delays[: LOOKED_AT if len(duties) <= MANY else 1]
    rows = [
        DelayRow(
            limit=d.limit,
            server_minutes=d.server_minutes,
            with_more_seconds=_gained(d.limit, timetable, duties, limits),
        )
        for d in asked
    ]
    return max(rows, key=lambda row: row.with_more_seconds or 0.0, default=None)


def _gained(limit: str, timetable: Timetable, duties: list[Duty], limits: NightLimits) -> float | None:
    more = _with_more(limits, limit)
    return None if more is None else max(0.0, timetable.makespan - plan_timetable(duties, more, tries=3).makespan)


def _with_more(limits: NightLimits, name: str) -> NightLimits | None:
    """The limits with one place more of that kind."""
    if name == "servers at once":
        return limits.changed(at_once=limits.at_once + 1)
    if name == "the link":
        return limits.changed(transfers=limits.transfers + 1)
    group = name.removeprefix("group ")
    if group == name:
        return None
    return limits.changed(groups=tuple(g.with_one_more() if g.name == group else g for g in limits.groups))
