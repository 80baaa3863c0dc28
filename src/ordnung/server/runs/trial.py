"""What a change of a sheet would mean, told while it is tried: when it ends, who is left over, which rule it breaks.

Nothing is kept. Limits may be tried that are not the house's ("if four more of them may be away").
"""

from __future__ import annotations

import datetime
import threading
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from ordnung.core.night.certainty import plan_surely
from ordnung.core.night.durations import History
from ordnung.core.night.itinerary import Itinerary, plan_itinerary
from ordnung.core.night.limits import NightLimits
from ordnung.core.night.timetable import Timetable, WishRefusedError, plan_timetable
from ordnung.server.clock import is_near
from ordnung.server.problems import Problem
from ordnung.server.runs.changes import SheetChange, put_change
from ordnung.server.runs.history import load_history
from ordnung.server.runs.layout import MANY, duties_of, places_of, sheet_limits, sheet_start
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.shapes import limited

SAMPLES, TRIES = 100, 8
"""Few enough to be answered while something is dragged."""
KEPT = 4
"""Duties of so many sheets are kept at hand: a person tries one many times over."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetTrial(SheetChange):
    """A change and limits that are only tried: when it starts, how many at once, so many more away of groups."""

    start: datetime.datetime | None = limited(default=None, allow_null=True)
    at_once: int | None = limited(min_value=1, max_value=100_000, default=None)
    more_away: dict[str, int] = limited(default=dict)
    surely: bool = False
    """With the chances however many servers there are; for hundreds that takes longer than a drag waits."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TriedLeftRow:
    server: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class TriedRow:
    """How it would be: ``refused`` names the rule that a wish breaks, and then nothing else is told."""

    refused: str
    start: datetime.datetime
    end: datetime.datetime
    planned_seconds: float
    sooner_seconds: float
    """By how much the planned end comes earlier than as the sheet stands; negative: later."""
    sure_end: datetime.datetime | None
    """When nine in ten such nights are over; None where there are many: ask ``surely``."""
    left: list[TriedLeftRow]
    groups: dict[str, float]
    """Seconds that servers of each group are away in all."""


def try_change(run: Run, trial: SheetTrial) -> TriedRow:
    """What a change would mean. Raises Problem for what is no change at all, as ``change_sheet``."""
    if trial.start is not None and not is_near(trial.start):
        raise Problem("format", "That is more than ten years away.", field="start")
    if trial.unattended is not None:
        raise Problem("format", "Who carries out its reboots can't be tried beforehand.", field="unattended")
    if trial.disc is not None:
        raise Problem("format", "How it is brought can't be tried beforehand.", field="disc")
    places = _places(run)
    stands_from = sheet_start(run)
    known = _stand(run, places, stands_from)
    tried = put_change(run, places, trial)
    start = trial.start or sheet_start(run)
    limits = _tried_limits(sheet_limits(run, tried, start), trial)
    steps = [known.steps[p.server.name] for p in tried if p.server.name in known.steps]
    try:
        timetable, sure = _try(steps, limits, known.history, run.pk, surely=trial.surely)
    except WishRefusedError as error:
        return _refused(start, str(error))
    return TriedRow(
        refused="",
        start=start,
        end=start + datetime.timedelta(seconds=timetable.makespan),
        planned_seconds=timetable.makespan,
        sooner_seconds=(stands_from - start).total_seconds() + known.seconds - timetable.makespan,
        sure_end=None if sure is None else start + datetime.timedelta(seconds=sure),
        left=[TriedLeftRow(server=o.server, reason=o.reason) for o in timetable.left],
        groups=_away(timetable),
    )


def _try(
    steps: Collection[Itinerary], limits: NightLimits, history: History, seed: int, *, surely: bool
) -> tuple[Timetable, float | None]:
    """The timetable and when it is over with nine in ten; the unsure are left over as they would be (F4)."""
    if len(steps) > MANY and not surely:
        return _plan(steps, limits), None
    tries = _tries(steps)
    timetable, found = plan_surely(steps, limits, samples=SAMPLES, seed=seed, history=history, tries=tries)
    return timetable, found.end.p90


def _plan(steps: Collection[Itinerary], limits: NightLimits) -> Timetable:
    return plan_timetable(steps, limits, tries=_tries(steps))


def _tries(steps: Collection[Itinerary]) -> int:
    return 0 if len(steps) > MANY else TRIES


def _tried_limits(limits: NightLimits, trial: SheetTrial) -> NightLimits:
    known = {group.name for group in limits.groups}
    stranger = next((name for name in trial.more_away if name not in known), None)
    if stranger is not None:
        raise Problem("no-such-group", f"There is no group {stranger[:200]}.", field="more_away")
    groups = tuple(group.with_more(trial.more_away.get(group.name, 0)) for group in limits.groups)
    return limits.changed(groups=groups, at_once=trial.at_once or limits.at_once)


def _refused(start: datetime.datetime, why: str) -> TriedRow:
    return TriedRow(
        refused=why, start=start, end=start, planned_seconds=0, sooner_seconds=0, sure_end=None, left=[], groups={}
    )


def _away(timetable: Timetable) -> dict[str, float]:
    found: dict[str, float] = {}
    for seat in timetable.seats:
        for group in seat.placed.itinerary.place.groups:
            found[group] = found.get(group, 0.0) + sum(end - begin for begin, end in seat.placed.aways)
    return found


def _places(run: Run) -> list[RunServer]:
    """The rows without what is long in them: it is tried several times a second."""
    fields = ("place", "group", "wave", "not_before", "pinned", "hold", "server__name")
    return list(run.servers.select_related("server").only("run", *fields))


@dataclass(frozen=True, slots=True)
class _Known:
    """What a sheet's servers go through, and how long it takes as it stands, planned as quickly as trials are.

    No trial changes how long a step takes: the steps are the same for all.
    """

    steps: dict[str, Itinerary]
    seconds: float
    history: History


_known: dict[tuple[int, str], _Known] = {}
_lock = threading.Lock()


def _stand(run: Run, places: Sequence[RunServer], start: datetime.datetime) -> _Known:
    key = (run.pk, run.revisions.values_list("sha256", flat=True).last() or "")
    with _lock:
        known = _known.get(key)
    if known is None:
        limits = sheet_limits(run, places, start)
        duties = duties_of(places_of(run)).items()
        steps = {name: plan_itinerary(duty, limits) for name, duty in duties if duty.route.rounds}
        history = load_history({step.model for step in steps.values()})
        known = _Known(steps, _plan(steps.values(), limits).makespan, history)
        with _lock:
            while len(_known) >= KEPT:
                _known.pop(next(iter(_known)))
            _known[key] = known
    return known
