"""Drift: folds, the review of what is chosen beforehand, and files."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.assessment import Standing
from ordnung.core.drift_rows import drift_rows, total_rows
from ordnung.core.folds import Fold
from ordnung.core.packing import plan_packing
from ordnung.core.review import list_steps
from ordnung.formats.bom import write_bom
from ordnung.formats.documents import write_document
from ordnung.server.api.exports import as_cell
from ordnung.server.api.fleet_shapes import CellSerializer
from ordnung.server.assessment.current import Assessment, current_assessment
from ordnung.server.assessment.folds import PART_KEYS, SERVER_KEYS, facets, fold_row, narrow, order, totals
from ordnung.server.baselines.exclusions import reviewed_folds
from ordnung.server.baselines.models import Exclusion
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.shapes import StrictSerializer, asked_number
from ordnung.server.work.events import tell

PAGE, MOST = 60, 500
MOST_IN_BOM = 2000
"""Servers in one bill of materials: beyond, tools for other people's eyes choke on the file."""
FILTERS = [
    OpenApiParameter(key, str, description="Values between | signs.") for key in (*SERVER_KEYS, *PART_KEYS)
] + [
    OpenApiParameter("servers", str, description="Names between commas."),
    OpenApiParameter("advisory", str, description="Only servers that run something affected by it."),
    OpenApiParameter("only", str, enum=["drift"]),
]  # fmt: skip


class FoldSerializer(StrictSerializer):
    signature = serializers.CharField()
    model = serializers.CharField(allow_blank=True)
    read = serializers.BooleanField()
    unread = serializers.CharField(allow_blank=True)
    names = serializers.ListField(child=serializers.CharField())
    cells = CellSerializer(many=True)
    resets = serializers.CharField(allow_blank=True)
    outages = serializers.IntegerField()
    off = serializers.IntegerField()
    exposed = serializers.IntegerField()
    components = serializers.IntegerField()
    stranded = serializers.ListField(child=serializers.CharField())


class ChoiceSerializer(StrictSerializer):
    value = serializers.CharField()
    label = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    count = serializers.IntegerField()


class FacetsSerializer(StrictSerializer):
    rooms = ChoiceSerializer(many=True)
    racks = ChoiceSerializer(many=True)
    groups = ChoiceSerializer(many=True)
    models = ChoiceSerializer(many=True)
    products = ChoiceSerializer(many=True)
    verdicts = ChoiceSerializer(many=True)


class TotalsSerializer(StrictSerializer):
    components = serializers.IntegerField()
    off = serializers.IntegerField()
    exposed = serializers.IntegerField()
    exposed_servers = serializers.IntegerField()
    off_servers = serializers.IntegerField()
    servers = serializers.IntegerField()
    of = serializers.IntegerField()


class ModelSerializer(StrictSerializer):
    model = serializers.CharField(allow_blank=True)
    servers = serializers.IntegerField()
    states = serializers.IntegerField()


class DriftSerializer(StrictSerializer):
    totals = TotalsSerializer()
    models = ModelSerializer(many=True)
    folds = FoldSerializer(many=True)
    offset = serializers.IntegerField()
    states = serializers.IntegerField()
    facets = FacetsSerializer()


class PlaceSerializer(StrictSerializer):
    server = serializers.CharField(max_length=200)
    slot = serializers.CharField(max_length=200)


class ExclusionSerializer(PlaceSerializer):
    reason = serializers.CharField()
    by = serializers.CharField()
    at = serializers.DateTimeField()


class PlacesSerializer(StrictSerializer):
    places = PlaceSerializer(many=True)


class LeaveOutSerializer(PlacesSerializer):
    reason = serializers.CharField(max_length=1000, allow_blank=True)


class StepSerializer(StrictSerializer):
    product = serializers.CharField()
    name = serializers.CharField()
    kind = serializers.CharField()
    before = serializers.CharField(allow_blank=True)
    after = serializers.CharField()
    via = serializers.ListField(child=serializers.CharField())
    importance = serializers.CharField(allow_null=True)
    score = serializers.FloatField(allow_null=True)
    places = PlaceSerializer(many=True)


class CostSerializer(StrictSerializer):
    servers = serializers.IntegerField()
    writes = serializers.IntegerField()
    reboots = serializers.IntegerField()
    power_cycles = serializers.IntegerField()
    restarts = serializers.IntegerField()
    bytes = serializers.IntegerField()
    longest_seconds = serializers.FloatField()
    barred = serializers.ListField(child=serializers.CharField())


class ReviewSerializer(StrictSerializer):
    steps = StepSerializer(many=True)
    left_out = ExclusionSerializer(many=True)
    cost = CostSerializer()


def _asked(request: HttpRequest) -> dict[str, str]:
    return {key: str(value) for key, value in request.GET.items() if value}


class DriftView(APIView):
    @extend_schema(
        responses=DriftSerializer,
        operation_id="drift",
        parameters=[*FILTERS, OpenApiParameter("limit", int), OpenApiParameter("offset", int)],
    )
    def get(self, request) -> Response:
        """Equal servers folded into one row, per model, the odd ones first; a page of states at a time."""
        assessment, asked = current_assessment(), _asked(request)
        narrowed = narrow(assessment, asked)
        ordered = order(narrowed.folds)
        limit, offset = asked_number(asked, "limit", PAGE), asked_number(asked, "offset", 0)
        models: dict[str, list[int]] = {}
        for fold in ordered:
            models.setdefault(fold.standing.server.model, []).append(len(fold.names))
        body = {
            "totals": totals(narrowed),
            "models": [{"model": m, "servers": sum(n), "states": len(n)} for m, n in models.items()],
            "folds": [fold_row(fold) for fold in ordered[offset : offset + min(MOST, max(1, limit))]],
            "offset": offset,
            "states": len(ordered),
            "facets": facets(assessment),
        }
        # Plain values all through: the serializer only tells the contract, at ten thousand servers it would cost most.
        return Response(body)


class ReviewView(APIView):
    @extend_schema(responses=ReviewSerializer, operation_id="review", parameters=FILTERS)
    def get(self, request) -> Response:
        """What is chosen beforehand for these servers, what was taken out of it and why, and what it costs."""
        assessment = current_assessment()
        folds = reviewed_folds(narrow(assessment, _asked(request)).folds, assessment.standings)
        names = {name for fold in folds for name in fold.names}
        body = {
            "steps": [_step(step) for step in list_steps(folds)],
            "left_out": [
                {"server": r.server, "slot": r.slot, "reason": r.reason, "by": r.by, "at": r.at}
                for r in Exclusion.objects.filter(put_back_at=None)
                if r.server in names
            ],
            "cost": _cost(folds),
        }
        return Response(body)


def _step(step) -> dict[str, Any]:
    names = ("product", "name", "kind", "before", "after", "via", "importance", "score")
    return {
        **{name: getattr(step, name) for name in names},
        "places": [{"server": server, "slot": slot} for server, slot in step.places],
    }


def _cost(folds: list[Fold]) -> dict[str, Any]:
    busy = [(f.standing, len(f.names)) for f in folds if f.standing.route.rounds]
    packed = plan_packing([standing for standing, _ in busy])
    return {
        "servers": sum(n for _, n in busy),
        "writes": sum(n * len(s.route.writes) for s, n in busy),
        "reboots": sum(n * (s.route.outages - s.route.power_cycles) for s, n in busy),
        "power_cycles": sum(n * s.route.power_cycles for s, n in busy),
        "restarts": sum(n * s.route.restarts for s, n in busy),
        "bytes": sum(p.release.payload.size for p in packed if p.release.payload),
        "longest_seconds": max((_seconds(s) for s, _ in busy), default=0.0),
        "barred": sorted({line for s, _ in busy for line in _barred(s)}),
    }


def _seconds(standing: Standing) -> float:
    """Writing and resets of one server, one after the other; what is not known counts as nothing."""
    rounds = standing.route.rounds
    return sum((r.reset_seconds or 0) + sum(w.seconds or 0 for w in r.writes) for r in rounds)


def _barred(standing: Standing) -> Iterator[str]:
    """Updates after which there is no way back to where they came from."""
    for position in standing.positions:
        product = position.product
        for write in standing.route.writes:
            release = product.find(write.to) if product and write.slot == position.component.slot else None
            if release is not None and release.floor_after is not None and product is not None:
                low, floor = product.key(position.component.version or ""), product.key(release.floor_after)
                if low is not None and floor is not None and low < floor:
                    yield f"{product.name} {release.version}: no way back below {release.floor_after}"


class ExclusionsView(APIView):
    @extend_schema(request=LeaveOutSerializer, responses={204: None})
    def post(self, request) -> Response:
        """Take components out of the work to be done, with the reason; runs and repositories leave them as they are."""
        places, reason = self._read(request)
        if not reason.strip():
            raise Problem("no-reason", "Say why it is taken out: whoever comes next has to know.", field="reason")
        with transaction.atomic():
            Exclusion.objects.filter(put_back_at=None).filter(
                pk__in=[r.pk for r in Exclusion.objects.filter(put_back_at=None) if (r.server, r.slot) in places]
            ).delete()
            Exclusion.objects.bulk_create(
                Exclusion(server=server, slot=slot, reason=reason.strip(), by=request.user.username, at=now())
                for server, slot in sorted(places)
            )
            tell("left-out")
        return Response(status=204)

    @staticmethod
    def _read(request) -> tuple[set[tuple[str, str]], str]:
        body = LeaveOutSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        places = {(p["server"], p["slot"]) for p in body.validated_data["places"]}
        assessment = current_assessment()
        for server, slot in places:
            standing = assessment.standings.get(server)
            if standing is None or standing.server.component(slot) is None:
                raise Problem("not-found", f"There is no component {slot} in {server}.", status=404, field="places")
        return places, body.validated_data["reason"]


class PutBackView(APIView):
    @extend_schema(request=PlacesSerializer, responses={204: None})
    def post(self, request) -> Response:
        """Put components back in. That they were out stays on record."""
        body = PlacesSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        places = {(p["server"], p["slot"]) for p in body.validated_data["places"]}
        with transaction.atomic():
            rows = [r.pk for r in Exclusion.objects.filter(put_back_at=None) if (r.server, r.slot) in places]
            Exclusion.objects.filter(pk__in=rows).update(put_back_at=now(), put_back_by=request.user.username)
            tell("left-out")
        return Response(status=204)


def _chosen(request: HttpRequest, assessment: Assessment) -> list[Standing]:
    names = [name for fold in narrow(assessment, _asked(request)).folds for name in fold.names]
    return [assessment.standings[name] for name in sorted(names)]


class DriftJsonView(APIView):
    @extend_schema(parameters=FILTERS, responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request) -> HttpResponse:
        """The drift of every component, as ``ordnung drift --json`` gives it."""
        standings = _chosen(request, current_assessment())
        rows = [row for standing in standings for row in drift_rows(standing)]
        raw = write_document({"components": rows, "totals": total_rows(rows)})
        return _file(raw, "application/json", "drift.json")


COLUMNS = (
    "server", "slot", "product", "installed", "target", "verdict", "behind", "missed_importance", "rule", "since",
    "fixes", "fixes_beyond", "route", "reason",
)  # fmt: skip


class DriftCsvView(APIView):
    @extend_schema(parameters=FILTERS, responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request) -> HttpResponse:
        """The drift of every component as a table (RFC 4180, UTF-8)."""
        out = io.StringIO(newline="")
        writer = csv.writer(out)
        writer.writerow(COLUMNS)
        for standing in _chosen(request, current_assessment()):
            for row in drift_rows(standing):
                values = [" ".join(v) if isinstance(v, list) else v for v in (row[name] for name in COLUMNS)]
                writer.writerow([as_cell(value) for value in values])
        return _file(out.getvalue().encode(), "text/csv; charset=utf-8", "drift.csv")


class BomView(APIView):
    @extend_schema(parameters=FILTERS, responses={(200, "application/vnd.cyclonedx+json"): OpenApiTypes.OBJECT})
    def get(self, request) -> HttpResponse:
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
