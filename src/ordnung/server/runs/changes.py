"""Changing a draft: waves, windows, wishes, who is left out; what it would mean beforehand; copying; planning again."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from django.db import transaction

from ordnung.core.night.recurring import Opening, openings
from ordnung.core.night.waves import propose_waves
from ordnung.core.run_sheet import compare_sheets
from ordnung.core.sheet import PlannedRound, name_payloads
from ordnung.engine.entry_codec import parse_rounds
from ordnung.server.assessment.current import current_assessment
from ordnung.server.audit.recording import record
from ordnung.server.baselines.exclusions import reviewed
from ordnung.server.clock import is_near, now
from ordnung.server.house.models import MaintenanceWindow
from ordnung.server.house.settings import house
from ordnung.server.house.windows import LOOKED_AHEAD, zone
from ordnung.server.problems import Problem
from ordnung.server.repositories.payloads import StoredPayloads, open_store
from ordnung.server.runs.documents import keep_revision, sheet_of
from ordnung.server.runs.identities import Identities
from ordnung.server.runs.layout import duties_of, lay_out_sheet, places_of
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.sheets import draft_sheet, put_plan, usual_name, window_rows
from ordnung.server.shapes import limited, one_of
from ordnung.server.work.events import tell

MOST_WAVES, LONGEST_WAIT_S = 50, 7 * 86400
SAVED = (
    "place", "lane", "needs_seconds", "detail", "waits", "wave", "not_before", "pinned", "hold",
    "rounds", "stranded", "proven", "gap", "hands", "stopping", "identities", "left_out",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class WaveChange:
    """A wave with who goes in it; ``gate`` person: a person lets the next one begin."""

    name: str = limited(max_length=100)
    servers: list[str]
    wait_seconds: int = limited(min_value=0, max_value=LONGEST_WAIT_S, default=0)
    gate: Literal["none", "person"] = one_of(("none", "person"), default="none")


@dataclass(frozen=True, slots=True, kw_only=True)
class WindowSpan:
    """A window by its two instants; ``name`` of the house's window that it is an opening of, or empty."""

    start: datetime.datetime
    end: datetime.datetime
    name: str = limited(max_length=100, allow_blank=True, default="")


@dataclass(frozen=True, slots=True, kw_only=True)
class WishChange:
    """What is wished of a server: not before a time, or, ``pinned``, just then; no time takes the wish back."""

    server: str = limited(max_length=200)
    not_before: datetime.datetime | None = limited(default=None, allow_null=True)
    pinned: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetChange:
    """What shall be otherwise; what is absent stays. ``waves`` and ``windows`` replace those there were."""

    name: str | None = limited(max_length=200, default=None)
    waves: list[WaveChange] | None = None
    propose_waves: bool = False
    windows: list[WindowSpan] | None = None
    certainty: float | None = limited(min_value=0.5, max_value=0.99, default=None)
    leave_out: list[str] = limited(default=list)
    wishes: list[WishChange] = limited(default=list)
    hold: list[str] | None = None


def change_sheet(run: Run, change: SheetChange, person: str) -> None:
    """Change a draft and lay it out anew.

    Raises:
        Problem: it is no draft, or what is wished breaks a rule, which is named; nothing was changed then.
    """
    with transaction.atomic():
        demand_draft(run)
        before = sheet_of(run)
        places = apply_change(run, change)
        _save(run, places)
        revision = keep_revision(run, person, _tell(change), places)
        differences = compare_sheets(before, sheet_of(run, places))
        told = [f"{d.server + ' ' if d.server else ''}{d.what}: {d.after}" for d in differences[:20]]
        record(on={"run": run.pk}, after={"revision": revision.number, "changes": told, "changed": len(differences)})
    tell("runs", id=run.pk)


def apply_change(run: Run, change: SheetChange) -> list[RunServer]:
    """The rows as they would be, laid out anew; nothing is saved.

    Raises:
        Problem: as ``change_sheet``.
    """
    places = put_change(run, places_of(run), change)
    lay_out_sheet(run, places)
    return places


def put_change(run: Run, places: Sequence[RunServer], change: SheetChange) -> list[RunServer]:
    """Put a change into rows that were loaded; returns those that stay on the sheet. Nothing is laid out or saved.

    Raises:
        Problem: a server that is not on the sheet, two waves of one name, a window that is over, nobody left.
    """
    by_name = {place.server.name: place for place in places}
    _demand_known(by_name, [*change.leave_out, *(w.server for w in change.wishes), *(change.hold or ())])
    _demand_near([w.not_before for w in change.wishes if w.not_before is not None], "wishes")
    run.name = change.name or run.name
    if change.windows is not None:
        _set_windows(run, change.windows)
    if change.certainty is not None:
        run.certainty = change.certainty
    kept = [place for place in places if place.server.name not in set(change.leave_out)]
    if run.name == usual_name(by_name):
        run.name = usual_name([place.server.name for place in kept])
    if not kept:
        raise Problem("nothing-to-do", "Nobody would be left on the sheet. Throw it away instead.", field="leave_out")
    if change.propose_waves:
        _take_waves(run, kept, _proposed(kept))
    elif change.waves is not None:
        _take_waves(run, kept, change.waves)
    for wish in change.wishes:
        if wish.server in by_name:
            place = by_name[wish.server]
            place.not_before, place.pinned = wish.not_before, wish.pinned and wish.not_before is not None
    if change.hold is not None:
        for place in places:
            place.hold = place.server.name in change.hold
    return kept


def _set_windows(run: Run, windows: Sequence[WindowSpan]) -> None:
    _demand_near([moment for span in windows for moment in (span.start, span.end)], "windows")
    for span in windows:
        if not now() < span.end or span.end <= span.start:
            raise Problem("format", "A window ends after it starts, and not before now.", field="windows")
    run.windows = window_rows(Opening(w.start, w.end, w.name) for w in sorted(windows, key=lambda w: w.start))
    run.certainty = (run.certainty or house().certainty) if windows else None


def _demand_near(moments: Sequence[datetime.datetime], field: str) -> None:
    if not all(is_near(moment) for moment in moments):
        raise Problem("format", "That is more than ten years away.", field=field)


def _proposed(places: Sequence[RunServer]) -> list[WaveChange]:
    waves = propose_waves(duties_of(places).values())
    if not waves:
        raise Problem("no-waves", "Too few of these servers are alike: nothing could be learnt from the first ones.")
    return [
        WaveChange(name=w.name, servers=list(w.servers or ()), wait_seconds=int(w.wait_seconds), gate=_gate(w.gate))
        for w in waves
    ]


def _gate(gate: str) -> Literal["none", "person"]:
    return "person" if gate == "person" else "none"


def _take_waves(run: Run, places: Sequence[RunServer], waves: Sequence[WaveChange]) -> None:
    names = [wave.name for wave in waves]
    if len(set(names)) < len(names) or len(names) > MOST_WAVES:
        raise Problem("format", f"Each wave has a name of its own, and there are at most {MOST_WAVES}.", field="waves")
    of: dict[str, str] = {}
    for wave in waves:
        for server in wave.servers:
            if server in of:
                raise Problem("format", f"{server} stands in two waves.", field="waves")
            of[server] = wave.name
    _demand_known({place.server.name: place for place in places}, list(of))
    for place in places:
        place.wave = of.get(place.server.name, names[-1] if names else "")
    run.waves = [{"name": w.name, "wait_seconds": w.wait_seconds, "gate": w.gate} for w in waves]


def _demand_known(known: dict[str, RunServer], names: Sequence[str]) -> None:
    stranger = next((name for name in names if name not in known), None)
    if stranger is not None:
        raise Problem("not-on-sheet", f"{stranger[:200]} is not on this sheet.", status=404)


def demand_draft(run: Run) -> None:
    """Raises Problem for what was started: its sheet stays as it was then."""
    if run.state != Run.State.DRAFT:
        raise Problem("not-a-draft", f"{run.name} was started; its sheet stays as it was then.", status=409)


def _save(run: Run, places: Sequence[RunServer]) -> None:
    run.save()
    run.servers.exclude(pk__in=[place.pk for place in places]).delete()
    # An upsert: updating field by field, row by row, takes many times as long.
    RunServer.objects.bulk_create(
        places, update_conflicts=True, unique_fields=["id"], update_fields=SAVED, batch_size=200
    )


def _tell(change: SheetChange) -> str:
    parts: list[tuple[bool, str]] = [
        (change.name is not None, "renamed"),
        (change.propose_waves, "waves proposed"),
        (change.waves is not None, "waves"),
        (change.windows is not None, "window"),
        (change.certainty is not None, "certainty"),
        (bool(change.leave_out), f"left out {', '.join(change.leave_out[:5])}"),
        (bool(change.wishes), f"times of {', '.join(w.server for w in change.wishes[:5])}"),
        (change.hold is not None, "hold points"),
    ]
    return "; ".join(words for is_so, words in parts if is_so) or "nothing"


# Copying


def copy_sheet(run: Run, person: str) -> Run:
    """A new draft for the servers of another sheet, as they stand now: with its waves, and its window's next opening.

    Raises:
        Problem: none of its servers has anything to do.
    """
    old = places_of(run)
    fresh = draft_sheet([p.server.name for p in old], person, run.name, windows=_next_openings(run))
    if run.waves:
        kept = {p.server.name for p in fresh.servers.select_related("server")}
        waves = [
            WaveChange(
                name=wave["name"],
                servers=[p.server.name for p in old if p.wave == wave["name"] and p.server.name in kept],
                wait_seconds=int(wave["wait_seconds"]),
                gate=_gate(wave["gate"]),
            )
            for wave in run.waves
        ]
        change_sheet(fresh, SheetChange(waves=waves), person)
    return fresh


def _next_openings(run: Run) -> tuple[Opening, ...]:
    names = {w.get("name") for w in run.windows}
    rules = [row.value() for row in MaintenanceWindow.objects.filter(name__in=names)]
    coming = openings(rules, zone(), now(), now() + LOOKED_AHEAD) if rules else ()
    return coming[:1]


# Readings that changed


@dataclass(frozen=True, slots=True, kw_only=True)
class StaleServerRow:
    """A server of a draft that is no longer what the sheet was made for."""

    server: str
    why: str


def stale_rows(run: Run, places: Sequence[RunServer]) -> list[StaleServerRow]:
    """Which servers of a draft must be planned again: their readings or the baseline lead elsewhere by now."""
    if run.state != Run.State.DRAFT or run.takes_back_id is not None:
        return []
    found = []
    standings = {s.server.name: s for s in reviewed(current_assessment().chosen([p.server.name for p in places]))}
    for place in places:
        standing = standings.get(place.server.name)
        if standing is None:
            found.append(StaleServerRow(server=place.server.name, why="it has no reading any more"))
            continue
        planned, fresh = parse_rounds(place.rounds), name_payloads(standing.route.rounds, standing.positions)
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
        before, settled = run.planned_seconds, Identities(StoredPayloads(open_store(), None))
        standings = {s.server.name: s for s in reviewed(current_assessment().chosen(sorted(stale)))}
        gone = [n for n in stale if n not in standings or not standings[n].route.rounds]
        kept = [place for place in places if place.server.name not in gone]
        if not kept:
            raise Problem("nothing-to-do", "None of these servers needs anything any more. Throw the sheet away.")
        for place in kept:
            if place.server.name in stale:
                standing = standings[place.server.name]
                rounds = name_payloads(standing.route.rounds, standing.positions)
                put_plan(place, standing, standing.route, rounds, settled)
        run.revision = current_assessment().baseline.number
        lay_out_sheet(run, kept)
        _save(run, kept)
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
