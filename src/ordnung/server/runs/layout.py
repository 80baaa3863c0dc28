"""Laying a sheet out: what its servers have to do, under the house's limits and the sheet's own, into a timetable."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ordnung.core.away import AwayPlace
from ordnung.core.errands import Moves
from ordnung.core.night.certainty import plan_surely
from ordnung.core.night.durations import Durations
from ordnung.core.night.forecast import Forecast
from ordnung.core.night.itinerary import Duty, Itinerary, duty_of_rounds, exact, plan_itinerary
from ordnung.core.night.limits import GroupLimit, NightLimits, Wave, Window, Wish
from ordnung.core.night.placing import Placed
from ordnung.core.night.timetable import Timetable, WishRefusedError, plan_timetable
from ordnung.core.night.waits import tell_waits
from ordnung.core.sheet import has_outage
from ordnung.core.turn import Span
from ordnung.engine.entry_codec import parse_rounds
from ordnung.server.assessment.current import Assessment, current_assessment
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Server
from ordnung.server.house.settings import at_once, house
from ordnung.server.problems import Problem
from ordnung.server.runs.derived import taken_places
from ordnung.server.runs.history import load_history
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.turns import wave_begins, windows_of

SAMPLES, MANY, SAMPLES_OF_MANY = 1000, 200, 200
LEFT = "Left over: "


@dataclass(frozen=True, slots=True, kw_only=True)
class LaidOut:
    """A sheet in time: ``start`` is second 0. ``found`` only where windows ask for certainty."""

    start: datetime.datetime
    limits: NightLimits
    timetable: Timetable
    found: Forecast | None = None


def samples_for(servers: int) -> int:
    """So many nights are played through for so many servers."""
    return SAMPLES if servers <= MANY else SAMPLES_OF_MANY


def house_limits() -> NightLimits:
    """What a night keeps at this site, whichever sheet it is; nobody occupied."""
    row = house()
    groups = tuple(_group_limit(group) for group in Group.objects.order_by("name"))
    return NightLimits(
        at_once=at_once(row), transfers=row.transfers, bytes_per_second=row.bytes_per_second, groups=groups,
        racks=dict(row.racks), rooms=dict(row.rooms), holds_early=True,
    )  # fmt: skip


def _group_limit(group: Group) -> GroupLimit:
    moves = bool(group.mover)
    return GroupLimit(
        name=group.name, may_be_away=group.may_be_away, heal_seconds=float(group.heal_seconds),
        off_seconds=float(group.off_seconds) if moves else 0.0,
        back_seconds=float(group.back_seconds) if moves else 0.0,
        between=group.between and moves,
    )  # fmt: skip


def moves_of(group: Group | None) -> Moves:
    """What a server's group wants done around an outage (P1)."""
    if group is None:
        return Moves()
    return Moves(off=bool(group.mover), healed=bool(group.healer), between=group.between and bool(group.mover))


def night_limits() -> NightLimits:
    """The same with who was left away now."""
    return house_limits().changed(occupied=tuple(place for place in taken_places() if place.kept))


def place_of(row: Server, outage: bool, group: str = "") -> AwayPlace:
    """What a server takes of the site's limits while it is worked on."""
    name = group or (row.group.name if row.group else "")
    return AwayPlace(
        server=row.name, groups=(name,) if name else (), rack=row.rack or None, room=row.room or None, outage=outage
    )


def places_of(run: Run) -> list[RunServer]:
    """A run's servers with what their places need."""
    return list(run.servers.select_related("server", "server__group"))


def duties_of(places: Iterable[RunServer]) -> dict[str, Duty]:
    """What servers of a run have to do, by the rounds of the sheet and what the catalogs tell of their releases."""
    assessment = current_assessment()
    return {place.server.name: _duty(place, assessment) for place in places}


def _duty(place: RunServer, assessment: Assessment) -> Duty:
    rounds = parse_rounds(place.rounds)
    standing = assessment.standings.get(place.server.name)
    model = standing.server.model if standing is not None else ""
    duty = duty_of_rounds(place_of(place.server, has_outage(rounds), place.group), model, rounds)
    for write in duty.route.writes:
        product, known = assessment.catalogs.by_id.get(write.product), duty.releases[write.slot, write.to]
        release = product.find(write.to) if product else None
        if release is not None and known is not None:
            told = dataclasses.replace(known, activation=release.activation, alone=release.alone)
            duty.releases[write.slot, write.to] = told
    return duty


def sheet_start(run: Run) -> datetime.datetime:
    """Second 0 of a draft: now, or when its first window that is not over opens; what is ahead begins now."""
    at, windows = now(), windows_of(run)
    if run.ahead != "nothing":
        return at
    coming = [max(at, start) for start, end in windows or () if end > at]
    return min(coming, default=at)


def sheet_limits(run: Run, places: Sequence[RunServer], start: datetime.datetime) -> NightLimits:
    """What the night of a sheet keeps: the house's limits and its own waves, windows and wishes, from ``start``."""
    windows = windows_of(run)
    wishes = tuple(
        Wish(server=p.server.name, at=since(start, p.not_before), pinned=p.pinned)
        for p in places
        if p.not_before is not None and p.not_before > start
    )
    return night_limits().changed(
        waves=waves_of(run.waves, places, start),
        windows=None if windows is None else window_spans(windows, start),
        certainty=run.certainty if windows is not None else None,
        wishes=wishes,
        ahead=run.ahead,
    )


def window_spans(windows: Iterable[Span], start: datetime.datetime) -> tuple[Window, ...]:
    """Windows in seconds from ``start``."""
    return tuple(Window(since(start, a), since(start, b)) for a, b in windows)


def waves_of(
    waves: Sequence[Mapping[str, Any]], places: Sequence[RunServer], start: datetime.datetime
) -> tuple[Wave, ...]:
    """The waves of a sheet with who goes in which, in seconds from ``start``; who is named for none goes last."""
    if not waves:
        return ()
    names = [str(w["name"]) for w in waves]
    by_wave: dict[str, list[str]] = {name: [] for name in names}
    for place in places:
        by_wave[place.wave if place.wave in by_wave else names[-1]].append(place.server.name)
    return tuple(
        Wave(
            name=n,
            servers=tuple(by_wave[n]),
            wait_seconds=float(w["wait_seconds"]),
            gate=w["gate"],
            not_before=since(start, max(start, wave_begins(w) or start)),
        )
        for n, w in zip(names, waves, strict=True)
    )


def since(start: datetime.datetime, moment: datetime.datetime) -> float:
    """Seconds from ``start``, as a multiple of 2**-20 as all of a timetable are."""
    return exact((moment - start).total_seconds())


def lay_out(duties: Sequence[Duty], limits: NightLimits, start: datetime.datetime, seed: int = 0) -> LaidOut:
    """The timetable; where windows ask for certainty, with a forecast, the unsure left over (F4).

    Raises:
        WishRefusedError: a server is pinned to a time at which it can't begin.
    """
    if limits.windows is None or limits.certainty is None:
        return LaidOut(start=start, limits=limits, timetable=plan_timetable(duties, limits))
    history = load_history(d.model for d in duties)
    timetable, found = plan_surely(duties, limits, samples=samples_for(len(duties)), seed=seed, history=history)
    return LaidOut(start=start, limits=limits, timetable=timetable, found=found)


def lay_out_sheet(run: Run, places: Sequence[RunServer], start: datetime.datetime | None = None) -> LaidOut:
    """Lay a sheet out and put it into its rows: lanes, turns, who is left over, how long each needs. Not yet saved.

    Raises:
        Problem: a server is pinned to a time at which it can't begin; the rule is named.
    """
    begin = start or sheet_start(run)
    limits = sheet_limits(run, places, begin)
    duties = duties_of(places)
    try:
        laid = lay_out(list(duties.values()), limits, begin, seed=run.pk or 0)
    except WishRefusedError as error:
        raise Problem("wish-refused", f"{error}.", status=409, field="wishes") from None
    needs = needs_of([plan_itinerary(d, limits) for d in duties.values()], limits.certainty)
    lanes = {seat.server: lane_of(seat.placed) for seat in laid.timetable.seats}
    waits = tell_waits(laid.timetable, limits)
    left = {o.server: f"{LEFT}{o.reason}." for o in laid.timetable.left}
    turns = {server: turn for turn, server in enumerate([*lanes, *left])}
    for place in places:
        name = place.server.name
        place.place, place.lane = turns.get(name, len(turns)), lanes.get(name, [])
        place.needs_seconds = needs.get(name, 0.0)
        place.waits = [asdict(wait) for wait in waits.get(name, ())]
        if name in left or place.detail.startswith(LEFT):
            place.detail = left.get(name, "")
    run.planned_seconds, run.bound_seconds, run.lanes_from = laid.timetable.makespan, laid.timetable.bound, begin
    return laid


LAID_FIELDS = ["place", "lane", "needs_seconds", "detail", "waits"]
"""What of a server's row ``lay_out_sheet`` changes."""


def needs_of(itineraries: Iterable[Itinerary], certainty: float | None) -> dict[str, float]:
    """How long each takes without waits: as surely as is asked for, else by planned seconds."""
    found = list(itineraries)
    if certainty is None:
        return {i.server: i.main_seconds for i in found}
    durations = Durations(400, 0, load_history(i.model for i in found))
    return {
        i.server: float(
            np.quantile(sum(durations.draw(i.server, i.model, step) for step in i.steps[i.ahead :]), certainty)
        )
        for i in found
        if i.steps
    }


def lane_of(placed: Placed) -> list[dict[str, object]]:
    """A server's planned steps, as they are kept with the run: kind, what, seconds from the start."""
    return [
        {
            "kind": step.kind,
            "start": at,
            "end": at + step.seconds,
            "label": f"{step.slot} {step.to}" if step.slot else "",
            "ahead": number < placed.itinerary.ahead,
        }
        for number, (at, step) in enumerate(zip(placed.starts, placed.itinerary.steps, strict=True))
    ]
