"""A run sheet as a document: change it, try it, approve it, copy and compare it, give it out."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.api.paging import paged, rows_of
from ordnung.server.api.tables import FOR, write_table
from ordnung.server.runs.again import copy_sheet, plan_again
from ordnung.server.runs.approvals import approve, take_approval_back
from ordnung.server.runs.changes import SheetChange, change_sheet
from ordnung.server.runs.commands import extend_window, open_wave
from ordnung.server.runs.given_out import SHEET_COLUMNS, SHEET_TEXTS, sheet_file, sheet_table
from ordnung.server.runs.models import Run
from ordnung.server.runs.revisions import SheetDifferenceRow, SheetRevisionRow, compare_runs, revision_rows
from ordnung.server.runs.rows import RunRow, run_row
from ordnung.server.runs.sheet_checks import CheckRow, check_rows
from ordnung.server.runs.trial import SheetTrial, TriedRow, try_change
from ordnung.server.shapes import limited, read, shape


class SheetView(APIView):
    @extend_schema(request=shape(SheetChange), responses=shape(RunRow))
    def patch(self, request: Request, pk: int) -> Response:
        """Change a draft: its waves, windows, who is left out, when a server begins. It is laid out anew."""
        change_sheet(get_object_or_404(Run, pk=pk), read(SheetChange, request), request.user.get_username())
        return Response(run_row(Run.objects.get(pk=pk)))


class SheetTrialView(APIView):
    @extend_schema(request=shape(SheetTrial), responses=shape(TriedRow))
    def post(self, request: Request, pk: int) -> Response:
        """What a change would mean for the end, the groups and who is left over; nothing is changed."""
        return Response(try_change(get_object_or_404(Run, pk=pk), read(SheetTrial, request)))


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetSum:
    """``sha256``: the sum of the sheet that the person has before them."""

    sha256: str = limited(max_length=64)


class ApprovalView(APIView):
    @extend_schema(request=shape(SheetSum), responses=shape(RunRow))
    def post(self, request: Request, pk: int) -> Response:
        """Approve a sheet as it stands."""
        run = get_object_or_404(Run, pk=pk)
        approve(run, request.user.get_username(), read(SheetSum, request).sha256)
        return Response(run_row(Run.objects.get(pk=pk)))

    @extend_schema(request=None, responses=shape(RunRow))
    def delete(self, request: Request, pk: int) -> Response:
        """Take one's own approval back."""
        take_approval_back(get_object_or_404(Run, pk=pk), request.user.get_username())
        return Response(run_row(Run.objects.get(pk=pk)))


class SheetCopyView(APIView):
    @extend_schema(request=None, responses={201: shape(RunRow)})
    def post(self, request: Request, pk: int) -> Response:
        """A new draft for the same servers as they stand now, with the same waves and the window's next opening."""
        run = copy_sheet(get_object_or_404(Run, pk=pk), request.user.get_username())
        return Response(run_row(run), status=201)


@dataclass(frozen=True, slots=True, kw_only=True)
class MovedRow:
    moved: str
    run: RunRow


class PlanAgainView(APIView):
    @extend_schema(request=None, responses=shape(MovedRow))
    def post(self, request: Request, pk: int) -> Response:
        """Plan anew the servers whose readings changed since the sheet was made, and say what that moves."""
        moved = plan_again(get_object_or_404(Run, pk=pk), request.user.get_username())
        return Response(MovedRow(moved=moved, run=run_row(Run.objects.get(pk=pk))))


class SheetRevisionsView(APIView):
    @paged(SheetRevisionRow)
    def get(self, request: Request, pk: int) -> Response:
        """How the sheet stood after each change, the latest first."""
        return rows_of(request, revision_rows(get_object_or_404(Run, pk=pk)))


class SheetCompareView(APIView):
    @paged(SheetDifferenceRow)
    def get(self, request: Request, pk: int, other: int) -> Response:
        """What is otherwise on this sheet than on another."""
        found = compare_runs(get_object_or_404(Run, pk=other), get_object_or_404(Run, pk=pk))
        return rows_of(request, found)


class WaveOpenView(APIView):
    @extend_schema(request=None, responses=shape(RunRow))
    def post(self, request: Request, pk: int, wave: str) -> Response:
        """Let a run go on after a wave."""
        open_wave(get_object_or_404(Run, pk=pk), wave, request.user.get_username())
        return Response(run_row(Run.objects.get(pk=pk)))


@dataclass(frozen=True, slots=True, kw_only=True)
class WindowEnd:
    until: datetime.datetime


class WindowView(APIView):
    @extend_schema(request=shape(WindowEnd), responses=shape(RunRow))
    def post(self, request: Request, pk: int) -> Response:
        """Put the end of the window of a run under way later."""
        extend_window(get_object_or_404(Run, pk=pk), read(WindowEnd, request).until)
        return Response(run_row(Run.objects.get(pk=pk)))


class SheetFileView(APIView):
    @extend_schema(responses={(200, "application/json"): OpenApiTypes.BINARY})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The sheet as a file, ``ordnung.sheet/1``, with its approvals; ``ordnung sheet check`` verifies it."""
        run = get_object_or_404(Run, pk=pk)
        headers = {"Content-Disposition": f'attachment; filename="sheet-{run.pk}.json"'}
        return HttpResponse(sheet_file(run), content_type="application/json", headers=headers)


class SheetTableView(APIView):
    @extend_schema(parameters=[FOR], responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The sheet as a table: one row a step, with when it is expected."""
        run = get_object_or_404(Run, pk=pk)
        return write_table(request, f"sheet-{run.pk}.csv", SHEET_COLUMNS, SHEET_TEXTS, sheet_table(run))


class SheetChecksView(APIView):
    @paged(CheckRow)
    def get(self, request: Request, pk: int) -> Response:
        """What the checks find on a draft by the last readings, the store and the record, what blocks first."""
        return rows_of(request, check_rows(get_object_or_404(Run, pk=pk)))
