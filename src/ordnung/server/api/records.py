"""Records of runs: as a page, and as files to be kept and shown."""

from __future__ import annotations

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.formats.bom import write_bom
from ordnung.server.api.tables import FOR, write_table
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.runs.models import Run
from ordnung.server.runs.months import MonthsRow, months_row
from ordnung.server.runs.record import RecordRow, record_file, record_row, run_record, standings_at
from ordnung.server.runs.record_table import RECORD_COLUMNS, RECORD_TEXTS, record_table
from ordnung.server.shapes import shape

WHEN = ("before", "after")


class RecordView(APIView):
    @extend_schema(responses=shape(RecordRow))
    def get(self, request: Request, pk: int) -> Response:
        """A run as it went: before and after of every server, what was done, by whom, and what can be taken back."""
        return Response(record_row(get_object_or_404(Run, pk=pk)))


class MonthsView(APIView):
    @extend_schema(responses=shape(MonthsRow))
    def get(self, request: Request) -> Response:
        """The last year: drift of each model day by day, exposures closed after how many days, what failed."""
        return Response(months_row())


class RecordFileView(APIView):
    @extend_schema(responses={(200, "application/json"): OpenApiTypes.BINARY})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The record as ``ordnung.record/1``, signed by the site; ``ordnung record verify`` checks it anywhere."""
        return _file(record_file(_started(pk)), "application/json", f"record-{pk}.json")


class RecordTableView(APIView):
    @extend_schema(parameters=[FOR], responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The record as a table: one row a write, and one for each server to which nothing was written."""
        rows = record_table(run_record(_started(pk)))
        return write_table(request, f"record-{pk}.csv", RECORD_COLUMNS, RECORD_TEXTS, rows)


class RecordBomView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("when", str, enum=WHEN, required=False)],
        responses={(200, "application/json"): OpenApiTypes.BINARY},
    )
    def get(self, request: Request, pk: int) -> HttpResponse:
        """CycloneDX 1.6 of the servers of a run: as they stood before it, or after (the default)."""
        when = request.query_params.get("when", "after")
        if when not in WHEN:
            raise Problem("invalid", "Say when: before or after.", field="when")
        run = _started(pk)
        raw = write_bom(standings_at(run, after=when == "after"), run.ended_at or now())
        return _file(raw, "application/vnd.cyclonedx+json", f"run-{pk}-{when}.cdx.json")


def _started(pk: int) -> Run:
    run = get_object_or_404(Run, pk=pk)
    if run.started_at is None:
        raise Problem("not-started", f"{run.name} was never started: there is nothing on record.", status=409)
    return run


def _file(raw: bytes, kind: str, name: str) -> HttpResponse:
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return HttpResponse(raw, content_type=kind, headers=headers)
