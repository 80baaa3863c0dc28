"""Drift: folds, the review of what is chosen beforehand, and files."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.assessment import Standing
from ordnung.core.drift_rows import drift_rows, total_rows
from ordnung.core.review import Cost, Step, cost_of, list_steps
from ordnung.formats.bom import write_bom
from ordnung.formats.documents import write_document
from ordnung.server.api.selections import SERVERS
from ordnung.server.api.tables import FOR, write_table
from ordnung.server.assessment.current import Assessment, current_assessment
from ordnung.server.assessment.folds import (
    PART_KEYS,
    SERVER_KEYS,
    FacetsRow,
    FoldRow,
    TotalsRow,
    facets,
    fold_row,
    narrow,
    order,
    totals,
)
from ordnung.server.baselines.exclusions import excluded, leave_out, put_back, reviewed_folds
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.shapes import asked_number, limited, read, row_from, shape

PAGE, MOST = 60, 500
MOST_IN_BOM = 2000
"""Servers in one bill of materials: beyond, tools for other people's eyes choke on the file."""
FILTERS = [
    OpenApiParameter(key, str, description="Values between | signs.") for key in (*SERVER_KEYS, *PART_KEYS)
] + [
    SERVERS,
    OpenApiParameter("advisory", str, description="Only servers that run something affected by it."),
    OpenApiParameter("only", str, enum=["drift"]),
]  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class ModelRow:
    model: str
    servers: int
    states: int


@dataclass(frozen=True, slots=True, kw_only=True)
class DriftRow:
    totals: TotalsRow
    models: list[ModelRow]
    folds: list[FoldRow]
    offset: int
    states: int
    facets: FacetsRow


@dataclass(frozen=True, slots=True, kw_only=True)
class ComponentPlace:
    server: str = limited(max_length=200)
    slot: str = limited(max_length=200)


@dataclass(frozen=True, slots=True, kw_only=True)
class ExclusionRow(ComponentPlace):
    reason: str
    by: str
    at: datetime.datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class ComponentPlaces:
    places: list[ComponentPlace]


@dataclass(frozen=True, slots=True, kw_only=True)
class LeaveOut(ComponentPlaces):
    reason: str = limited(max_length=1000, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class StepRow:
    product: str
    name: str
    kind: str
    before: str
    after: str
    via: list[str]
    importance: str | None
    score: float | None
    places: list[ComponentPlace]


@dataclass(frozen=True, slots=True, kw_only=True)
class ReviewRow:
    steps: list[StepRow]
    left_out: list[ExclusionRow]
    cost: Cost


def _asked(request: HttpRequest) -> dict[str, str]:
    return {key: str(value) for key, value in request.GET.items() if value}


class DriftView(APIView):
    @extend_schema(
        responses=shape(DriftRow),
        operation_id="drift",
        parameters=[*FILTERS, OpenApiParameter("limit", int), OpenApiParameter("offset", int)],
    )
    def get(self, request: Request) -> Response:
        """Equal servers folded into one row, per model, the odd ones first; a page of states at a time."""
        assessment, asked = current_assessment(), _asked(request)
        narrowed = narrow(assessment, asked)
        ordered = order(narrowed.folds)
        limit, offset = asked_number(asked, "limit", PAGE), asked_number(asked, "offset", 0)
        models: dict[str, list[int]] = {}
        for fold in ordered:
            models.setdefault(fold.standing.server.model, []).append(len(fold.names))
        body = DriftRow(
            totals=totals(narrowed),
            models=[ModelRow(model=m, servers=sum(n), states=len(n)) for m, n in models.items()],
            folds=[fold_row(fold) for fold in ordered[offset : offset + min(MOST, max(1, limit))]],
            offset=offset,
            states=len(ordered),
            facets=facets(assessment),
        )
        return Response(body)


class ReviewView(APIView):
    @extend_schema(responses=shape(ReviewRow), operation_id="review", parameters=FILTERS)
    def get(self, request: Request) -> Response:
        """What is chosen beforehand for these servers, what was taken out of it and why, and what it costs."""
        assessment = current_assessment()
        folds = reviewed_folds(narrow(assessment, _asked(request)).folds, assessment.standings)
        names = {name for fold in folds for name in fold.names}
        body = ReviewRow(
            steps=[row_from(StepRow, step, via=list(step.via), places=_places(step)) for step in list_steps(folds)],
            left_out=[row_from(ExclusionRow, row) for row in excluded() if row.server in names],
            cost=cost_of(folds),
        )
        return Response(body)


def _places(step: Step) -> list[ComponentPlace]:
    return [ComponentPlace(server=server, slot=slot) for server, slot in step.places]


class ExclusionsView(APIView):
    @extend_schema(request=shape(LeaveOut), responses={204: None})
    def post(self, request: Request) -> Response:
        """Take components out of the work to be done, with the reason; runs and repositories leave them as they are."""
        asked = read(LeaveOut, request)
        if not asked.reason.strip():
            raise Problem("no-reason", "Say why it is taken out: whoever comes next has to know.", field="reason")
        places = {(place.server, place.slot) for place in asked.places}
        assessment = current_assessment()
        for server, slot in places:
            standing = assessment.standings.get(server)
            if standing is None or standing.server.component(slot) is None:
                raise Problem("not-found", f"There is no component {slot} in {server}.", status=404, field="places")
        leave_out(places, asked.reason.strip(), request.user.get_username())
        return Response(status=204)


class PutBackView(APIView):
    @extend_schema(request=shape(ComponentPlaces), responses={204: None})
    def post(self, request: Request) -> Response:
        """Put components back in. That they were out stays on record."""
        asked = read(ComponentPlaces, request)
        put_back({(place.server, place.slot) for place in asked.places}, request.user.get_username())
        return Response(status=204)


def _chosen(request: HttpRequest, assessment: Assessment) -> list[Standing]:
    names = [name for fold in narrow(assessment, _asked(request)).folds for name in fold.names]
    return [assessment.standings[name] for name in sorted(names)]


class DriftJsonView(APIView):
    @extend_schema(parameters=FILTERS, responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request: Request) -> HttpResponse:
        """The drift of every component, as ``ordnung drift --json`` gives it."""
        standings = _chosen(request, current_assessment())
        rows = [row for standing in standings for row in drift_rows(standing)]
        raw = write_document({"components": rows, "totals": total_rows(rows)})
        return _file(raw, "application/json", "drift.json")


COLUMNS = (
    "server", "slot", "product", "installed", "target", "verdict", "behind", "missed_importance", "rule", "since",
    "fixes", "fixes_beyond", "route", "reason",
)  # fmt: skip


TEXTS = ("server", "slot", "installed", "target", "fixes", "route")


class DriftCsvView(APIView):
    @extend_schema(parameters=[*FILTERS, FOR], responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request: Request) -> HttpResponse:
        """The drift of every component as a table."""
        standings = _chosen(request, current_assessment())
        rows = ([_plain(row[name]) for name in COLUMNS] for standing in standings for row in drift_rows(standing))
        return write_table(request, "drift.csv", COLUMNS, TEXTS, rows)


def _plain(value: object) -> object:
    return " ".join(value) if isinstance(value, list) else value


class BomView(APIView):
    @extend_schema(parameters=FILTERS, responses={(200, "application/vnd.cyclonedx+json"): OpenApiTypes.OBJECT})
    def get(self, request: Request) -> HttpResponse:
        """The firmware of the chosen servers as a CycloneDX 1.6 bill of materials."""
        standings = _chosen(request, current_assessment())
        if len(standings) > MOST_IN_BOM:
            message = f"{len(standings)} servers are too many for one bill of materials; choose at most {MOST_IN_BOM}."
            raise Problem("too-many", message, field="servers")
        raw = write_bom(standings, now())
        return _file(raw, "application/vnd.cyclonedx+json; version=1.6", "firmware.cdx.json")


def _file(raw: bytes, kind: str, name: str) -> HttpResponse:
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return HttpResponse(raw, content_type=kind, headers=headers)
