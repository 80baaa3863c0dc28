"""What the night of a run will probably come to: its timetable as it was drawn, played through many times."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.night.costs import Costs, count_costs
from ordnung.core.night.forecast import Forecast, Happened, Quantiles, forecast
from ordnung.core.night.itinerary import Duty, Itinerary, plan_itinerary
from ordnung.core.night.limits import NightLimits
from ordnung.core.night.placing import Placed
from ordnung.core.night.timetable import Seat, Timetable, plan_timetable
from ordnung.server.clock import now
from ordnung.server.runs.derived import load_acts
from ordnung.server.runs.history import failure_rate, load_history
from ordnung.server.runs.layout import MANY, duties_of, places_of, samples_for, sheet_limits
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.story import UNPLANNED, SpanRow, tell_steps

LOOKED_AT = 5
"""Of so many limits that delay it is worked out what one place more would change."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ChanceRow(Quantiles):
    server: str
    in_time: float | None
    """Its chance to be done inside its window; None without windows."""


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
    waves: dict[str, Quantiles]
    kept: int
    """Steps whose durations are drawn from what past runs really took."""
    steps: int
    """Writes and resets in all."""
    delay: DelayRow | None
    costs: Costs
    assumed: list[str]
    """Servers of which some step rests on usual times, nothing being known of it (T1)."""


def forecast_row(run: Run) -> ForecastRow:
    """What a run will probably come to; of one under way, by what has happened so far (F5)."""
    places = places_of(run)
    start = run.started_at or run.lanes_from or now()
    limits = sheet_limits(run, places, start)
    duties = duties_of(places)
    timetable = _as_drawn([place for place in places if not place.ended], duties, limits)
    story, at = _story(run, timetable)
    history = load_history({duty.model for duty in duties.values()})
    samples = samples_for(len(places))
    found = forecast(timetable, limits, samples=samples, seed=run.pk, history=history, story=story, now=at)
    planned = [plan_itinerary(duty, limits) for duty in duties.values()]
    end = found.end if timetable.seats else Quantiles(p50=at, p90=at, p99=at)
    return ForecastRow(
        samples=found.samples,
        end=end,
        servers=[
            ChanceRow(server=c.server, p50=c.done.p50, p90=c.done.p90, p99=c.done.p99, in_time=c.in_time)
            for c in found.servers
        ],
        waves={name: found.waves[name] for name in [wave.name for wave in limits.waves] if name in found.waves},
        kept=sum(history.of(i.model, step) != () for i in planned for step in i.steps),
        steps=sum(step.kind not in ("staging", "checking") for i in planned for step in i.steps),
        delay=_delay(found, timetable, list(duties.values()), limits) if run.state == Run.State.DRAFT else None,
        costs=count_costs(duties.values(), limits, failure_rate()),
        assumed=sorted(i.server for i in planned if any(s.assumed and s.kind != "staging" for s in i.steps)),
    )


def _as_drawn(places: Sequence[RunServer], duties: dict[str, Duty], limits: NightLimits) -> Timetable:
    """The timetable that was kept with the run; worked out anew for what was drafted by an earlier Ordnung."""
    seats = []
    for place in places:
        itinerary = plan_itinerary(duties[place.server.name], limits)
        if not place.lane or not itinerary.steps:
            continue
        if [span["kind"] for span in place.lane] != [step.kind for step in itinerary.steps]:
            return plan_timetable([duties[p.server.name] for p in places], limits.changed(wishes=()))
        placed = Placed(itinerary, tuple(float(span["start"]) for span in place.lane))
        window = next((w for w in limits.windows or () if w.start <= placed.begins < w.end), None)
        seats.append(Seat(placed=placed, wave=place.wave or None, window=window))
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
    left = [span for span in spans if span.kind not in UNPLANNED]
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
    return limits.changed(groups=tuple(g.with_more() if g.name == group else g for g in limits.groups))
