"""A run's sheet as a document: what it says, and how it stood after each change."""

from __future__ import annotations

from collections.abc import Sequence

from ordnung.core.run_sheet import HandsOn, RunSheet, SheetServer, SheetWave
from ordnung.engine.entry_codec import parse_rounds
from ordnung.formats.sheet import read_sheet, sheet_body, sheet_sum
from ordnung.server.clock import now
from ordnung.server.runs.layout import house_limits, places_of
from ordnung.server.runs.models import Run, RunServer, SheetRevision
from ordnung.server.runs.turns import wave_begins, windows_of


def sheet_of(run: Run, places: Sequence[RunServer] | None = None) -> RunSheet:
    """The sheet of a run as it stands, under the house's limits as they are."""
    limits = house_limits()
    rows = places_of(run) if places is None else places
    used = {p.group for p in rows if p.group}
    racks, rooms = {p.server.rack for p in rows}, {p.server.room for p in rows}
    return RunSheet(
        baseline=run.revision,
        servers=tuple(_server(place) for place in rows),
        waves=tuple(
            SheetWave(name=w["name"], wait_seconds=w["wait_seconds"], gate=w["gate"], not_before=wave_begins(w))
            for w in run.waves
        ),
        windows=windows_of(run),
        disc=run.disc.sha256 if run.disc is not None else "",
        limits=limits.changed(
            groups=tuple(group for group in limits.groups if group.name in used),
            racks={name: n for name, n in limits.racks.items() if name in racks},
            rooms={name: n for name, n in limits.rooms.items() if name in rooms},
            certainty=run.certainty if run.windows else None,
            holds_early=False,
            ahead=run.ahead,
        ),
    )


def _server(place: RunServer) -> SheetServer:
    return SheetServer(
        server=place.server.name,
        group=place.group,
        rack=place.server.rack,
        room=place.server.room,
        wave=place.wave,
        rounds=parse_rounds(place.rounds),
        back=place.back,
        not_before=place.not_before,
        pinned=place.pinned,
        hold=place.hold,
        overrides=place.overrides,
        left_out=place.left_out,
        hands=tuple(HandsOn(**step) for step in place.hands),
    )


def keep_revision(run: Run, person: str, what: str, places: Sequence[RunServer] | None = None) -> SheetRevision:
    """Keep a sheet as it stands now, unless nothing of it changed since the last time."""
    sheet = sheet_of(run, places)
    found, last = sheet_sum(sheet), run.revisions.last()
    if last is not None and last.sha256 == found:
        return last
    number = 1 if last is None else last.number + 1
    return SheetRevision.objects.create(
        run=run, number=number, at=now(), by=person, what=what[:300], sha256=found, body=sheet_body(sheet)
    )


def present_sheet(run: Run) -> RunSheet:
    """The sheet of a draft as it stands; of what was started, as it stood then."""
    last = None if run.state == Run.State.DRAFT else run.revisions.last()
    return sheet_of(run) if last is None else revised(last)


def revised(revision: SheetRevision) -> RunSheet:
    """The sheet of a revision."""
    return read_sheet(revision.body)
