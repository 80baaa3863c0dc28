"""Planning again: servers of a draft that were read otherwise since, and a new draft as an earlier sheet was."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.db import transaction

from ordnung.core.night.recurring import Opening, openings
from ordnung.core.sheet import PlannedRound
from ordnung.engine.entry_codec import parse_rounds
from ordnung.server.assessment.current import current_assessment
from ordnung.server.audit.recording import record
from ordnung.server.baselines.exclusions import reviewed
from ordnung.server.clock import now
from ordnung.server.house.models import MaintenanceWindow
from ordnung.server.house.windows import LOOKED_AHEAD, zone
from ordnung.server.problems import Problem
from ordnung.server.runs.changes import SheetChange, WaveChange, change_sheet, demand_draft, gate_of, save_sheet
from ordnung.server.runs.documents import keep_revision
from ordnung.server.runs.layout import lay_out_sheet, places_of
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.planned import plan_anew, planner
from ordnung.server.runs.sheets import draft_sheet
from ordnung.server.work.events import tell


def copy_sheet(run: Run, person: str) -> Run:
    """A new draft for the servers of another sheet, as they stand now: with its waves, and its window's next opening.

    Raises:
        Problem: none of its servers has anything to do.
    """
    old = places_of(run)
    fresh = draft_sheet([p.server.name for p in old], person, run.name, openings=_next_openings(run))
    if run.waves:
        kept = {p.server.name for p in fresh.servers.select_related("server")}
        waves = [
            WaveChange(
                name=wave["name"],
                servers=[p.server.name for p in old if p.wave == wave["name"] and p.server.name in kept],
                wait_seconds=int(wave["wait_seconds"]),
                gate=gate_of(wave["gate"]),
            )  # no time: that of last month's night is over
            for wave in run.waves
        ]
        change_sheet(fresh, SheetChange(waves=waves), person)
    if run.ahead == "writing":
        change_sheet(fresh, SheetChange(ahead="writing"), person)
    if run.disc_id is not None:
        change_sheet(fresh, SheetChange(disc=run.disc_id), person)
    return fresh


def _next_openings(run: Run) -> tuple[Opening, ...]:
    names = {w.get("name") for w in run.windows}
    rules = [row.value() for row in MaintenanceWindow.objects.filter(name__in=names)]
    coming = openings(rules, zone(), now(), now() + LOOKED_AHEAD) if rules else ()
    return tuple(coming)


@dataclass(frozen=True, slots=True, kw_only=True)
class StaleServerRow:
    """A server of a draft that is no longer what the sheet was made for."""

    server: str
    why: str


def stale_rows(run: Run, places: Sequence[RunServer]) -> list[StaleServerRow]:
    """Which servers of a draft must be planned again: their readings or the baseline lead elsewhere by now."""
    if run.state != Run.State.DRAFT or run.takes_back_id is not None:
        return []
    found, plan = [], planner(run)
    standings = {s.server.name: s for s in reviewed(current_assessment().chosen([p.server.name for p in places]))}
    for place in places:
        standing = standings.get(place.server.name)
        if standing is None:
            found.append(StaleServerRow(server=place.server.name, why="it has no reading any more"))
            continue
        planned, (fresh, _) = parse_rounds(place.rounds), plan(standing)
        if fresh != planned:
            found.append(StaleServerRow(server=place.server.name, why=_why_stale(planned, fresh)))
    return found


def _why_stale(planned: Sequence[PlannedRound], fresh: Sequence[PlannedRound]) -> str:
    old, new = ([p.write for step in rounds for p in step.writes] for rounds in (planned, fresh))
    if not new:
        return "it needs nothing any more"
    by_slot = {write.slot: write for write in new}
    for write in old:
        now_at = by_slot.get(write.slot)
        if now_at is None:
            return f"{write.slot} needs nothing any more"
        if (now_at.source, now_at.to) != (write.source, write.to):
            return f"{write.slot} goes {now_at.source} → {now_at.to} now, not {write.source} → {write.to}"
    known = {write.slot for write in old}
    added = next((write for write in new if write.slot not in known), None)
    return f"{added.slot} needs {added.to} now" if added else "its rounds or payloads are others now"


def plan_again(run: Run, person: str) -> str:
    """Plan the servers anew that changed, and lay the sheet out; those that need nothing any more leave it.

    Returns:
        What that moved, in a sentence.

    Raises:
        Problem: it is no draft, nothing changed, or nobody would be left.
    """
    with transaction.atomic():
        demand_draft(run)
        places = places_of(run)
        stale = {row.server for row in stale_rows(run, places)}
        if not stale:
            raise Problem("nothing-changed", "Nothing has changed since the sheet was made.", status=409)
        before = run.planned_seconds
        standings = {s.server.name: s for s in reviewed(current_assessment().chosen(sorted(stale)))}
        gone = [n for n in stale if n not in standings or not standings[n].route.rounds]
        kept = [place for place in places if place.server.name not in gone]
        if not kept:
            raise Problem("nothing-to-do", "None of these servers needs anything any more. Throw the sheet away.")
        plan_anew(run, [place for place in kept if place.server.name in stale])
        run.revision = current_assessment().baseline.number
        lay_out_sheet(run, kept)
        save_sheet(run, kept)
        moved = _moved(before, run.planned_seconds, len(stale), len(gone))
        keep_revision(run, person, f"planned again: {', '.join(sorted(stale)[:5])}", kept)
        record(on={"run": run.pk, "servers": sorted(stale)}, after={"moved": moved})
    tell("runs", id=run.pk)
    return moved


def _moved(before: float, after: float, stale: int, gone: int) -> str:
    by = round((after - before) / 60)
    end = "the planned end stays" if by == 0 else f"it ends {abs(by)} min {'later' if by > 0 else 'earlier'}"
    left = f", {gone} need nothing any more" if gone else ""
    return f"{stale} planned again{left}; {end}"
