"""A sheet as a file to be taken along: JSON with its approvals, and a table of its steps."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from dataclasses import asdict
from typing import Any

from django.conf import settings

from ordnung.formats.sheet import SheetFile, sheet_sum, write_sheet
from ordnung.server.runs.approvals import approvals_of
from ordnung.server.runs.documents import present_sheet
from ordnung.server.runs.layout import LEFT, places_of
from ordnung.server.runs.models import Run
from ordnung.server.runs.night import forecast_row

SHEET_COLUMNS = ("wave", "server", "group", "room", "rack", "unit", "step", "what", "begins", "ends")
SHEET_TEXTS = ("wave", "server", "group", "room", "rack", "step", "what")


def sheet_file(run: Run) -> bytes:
    """``ordnung.sheet/1`` of a run: what is approved, and besides, when each step is expected."""
    sheet = present_sheet(run)
    file = SheetFile(
        site=settings.SITE,
        number=run.pk,
        name=run.name,
        drafted_by=run.drafted_by,
        sheet=sheet,
        sha256=sheet_sum(sheet),
        approvals=approvals_of(run),
    )
    return write_sheet(file, {"timetable": _timetable(run), "forecast": asdict(forecast_row(run))})


def _timetable(run: Run) -> dict[str, Any]:
    places = places_of(run)
    left = [p for p in places if p.detail.startswith(LEFT)]
    return {
        "start": _start(run),
        "servers": [{"server": p.server.name, "wave": p.wave or None, "steps": p.lane} for p in places if p.lane],
        "left": [{"server": p.server.name, "reason": p.detail.removeprefix(LEFT).rstrip(".")} for p in left],
        "makespan": run.planned_seconds,
        "bound": run.bound_seconds,
    }


def _start(run: Run) -> datetime.datetime | None:
    return run.started_at or (run.lanes_from if run.windows else None)


def sheet_table(run: Run) -> Iterator[tuple[object, ...]]:
    """One row a planned step; one for each server that is left over. Times are instants where the start is one."""
    start = _start(run)

    def tell(seconds: float) -> str:
        if start is None:
            return f"{seconds:.0f}"
        return (start + datetime.timedelta(seconds=seconds)).isoformat(timespec="seconds")

    for place in places_of(run):
        row = place.server
        head = (place.wave, row.name, place.group, row.room, row.rack, row.unit)
        for step in place.lane:
            yield (*head, step["kind"], step["label"], tell(step["start"]), tell(step["end"]))
        if not place.lane:
            yield (*head, "left over", place.detail.removeprefix(LEFT), "", "")
