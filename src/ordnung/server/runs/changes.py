"""Changing a draft: waves, windows, wishes, hold points, who is left out."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from django.db import transaction

from ordnung.core.night.recurring import Opening
from ordnung.core.night.waves import propose_waves
from ordnung.core.run_sheet import compare_sheets
from ordnung.server.audit.recording import record
from ordnung.server.clock import is_near, now
from ordnung.server.house.settings import house
from ordnung.server.problems import Problem
from ordnung.server.runs.by_disc import choose_disc
from ordnung.server.runs.documents import keep_revision, sheet_of
from ordnung.server.runs.layout import duties_of, lay_out_sheet, places_of
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.sheets import usual_name, window_rows
from ordnung.server.runs.unattended import choose_reboots
from ordnung.server.shapes import limited, one_of
from ordnung.server.work.events import tell

MOST_WAVES, LONGEST_WAIT_S = 50, 7 * 86400
SAVED = (
    "place", "lane", "needs_seconds", "detail", "waits", "wave", "not_before", "pinned", "hold",
    "rounds", "stranded", "proven", "gap", "hands", "stopping", "identities", "left_out",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class WaveChange:
    """A wave with who goes in it.

    ``gate`` person: a person lets the next one begin. ``not_before``: none of it begins earlier; None: at its turn.
    """

    name: str = limited(max_length=100)
    servers: list[str]
    wait_seconds: int = limited(min_value=0, max_value=LONGEST_WAIT_S, default=0)
    gate: Literal["none", "person"] = one_of(("none", "person"), default="none")
    not_before: datetime.datetime | None = limited(default=None, allow_null=True)


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
    ahead: Literal["nothing", "writing"] | None = one_of(("nothing", "writing"), default=None)
    unattended: bool | None = None
    sure: bool = False
    """Said with ``unattended``: a person knows what that means."""
    disc: int | None = limited(min_value=0, default=None)
    """The disc image by which it is brought, as it was written out; 0: by none."""


def change_sheet(run: Run, change: SheetChange, person: str) -> None:
    """Change a draft and lay it out anew.

    Raises:
        Problem: it is no draft, or what is wished breaks a rule, which is named; nothing was changed then.
    """
    with transaction.atomic():
        demand_draft(run)
        before = sheet_of(run)
        places = apply_change(run, change)
        save_sheet(run, places)
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
    if change.unattended is not None and change.unattended != run.unattended:
        choose_reboots(run, places, left=change.unattended, sure=change.sure)
    if change.disc is not None and change.disc != (run.disc_id or 0):
        choose_disc(run, places, change.disc)
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
    if change.ahead is not None:
        run.ahead = change.ahead
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
        WaveChange(name=w.name, servers=list(w.servers or ()), wait_seconds=int(w.wait_seconds), gate=gate_of(w.gate))
        for w in waves
    ]


def gate_of(gate: str) -> Literal["none", "person"]:
    """A gate as a change names it."""
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
    _demand_near([wave.not_before for wave in waves if wave.not_before is not None], "waves")
    for place in places:
        place.wave = of.get(place.server.name, names[-1] if names else "")
    run.waves = [_wave_row(wave) for wave in waves]


def _wave_row(wave: WaveChange) -> dict[str, object]:
    begins = None if wave.not_before is None else wave.not_before.astimezone(datetime.UTC).isoformat()
    return {"name": wave.name, "wait_seconds": wave.wait_seconds, "gate": wave.gate, "not_before": begins}


def _demand_known(known: dict[str, RunServer], names: Sequence[str]) -> None:
    stranger = next((name for name in names if name not in known), None)
    if stranger is not None:
        raise Problem("not-on-sheet", f"{stranger[:200]} is not on this sheet.", status=404)


def demand_draft(run: Run) -> None:
    """Raises Problem for what was started: its sheet stays as it was then."""
    if run.state != Run.State.DRAFT:
        raise Problem("not-a-draft", f"{run.name} was started; its sheet stays as it was then.", status=409)


def save_sheet(run: Run, places: Sequence[RunServer]) -> None:
    """Keep a sheet as it was laid out: its servers are these and no others."""
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
        (change.ahead is not None, "what is done ahead"),
        (change.unattended is not None, "who carries out its reboots"),
        (change.disc is not None, "how it is brought"),
    ]
    return "; ".join(words for is_so, words in parts if is_so) or "nothing"
