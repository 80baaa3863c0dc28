"""How a sheet stood after each change, and in what two sheets differ."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from ordnung.core.run_sheet import SheetDifference, compare_sheets
from ordnung.server.runs.documents import present_sheet
from ordnung.server.runs.models import Run
from ordnung.server.shapes import row_from


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetRevisionRow:
    number: int
    at: datetime.datetime
    by: str
    what: str
    sha256: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetDifferenceRow(SheetDifference):
    """One difference: of which server (empty: of the whole sheet), what, and how it stood and stands."""


def revision_rows(run: Run) -> list[SheetRevisionRow]:
    """All revisions of a sheet, the latest first."""
    return [row_from(SheetRevisionRow, row) for row in run.revisions.order_by("-number")]


def compare_runs(before: Run, after: Run) -> list[SheetDifferenceRow]:
    """In what the sheet of one run differs from another's."""
    found = compare_sheets(present_sheet(before), present_sheet(after))
    return [row_from(SheetDifferenceRow, difference) for difference in found]
