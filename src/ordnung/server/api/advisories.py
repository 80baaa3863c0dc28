"""Advisories: bring in, and who is affected."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.parsers import MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.advisories import AdvisoryImpact, assess
from ordnung.formats.compressed import unpack
from ordnung.server.advisories.models import AdvisoryFile
from ordnung.server.advisories.store import bring_in_advisory, load_advisories
from ordnung.server.assessment.current import current_assessment
from ordnung.server.baselines.rows import NAMES_SHOWN
from ordnung.server.problems import Problem
from ordnung.server.shapes import StrictSerializer

MAX_ADVISORY = 16 * 2**20


class ConcernSerializer(StrictSerializer):
    product = serializers.CharField()
    name = serializers.CharField()
    version = serializers.CharField()
    status = serializers.ChoiceField(choices=["affected", "open", "unknown", "fixed", "not affected"])
    ends = serializers.CharField(allow_null=True)
    within = serializers.BooleanField()
    components = serializers.IntegerField()
    servers = serializers.ListField(child=serializers.CharField())
    server_count = serializers.IntegerField()


class RemedySerializer(StrictSerializer):
    category = serializers.CharField()
    details = serializers.CharField()
    url = serializers.CharField(allow_blank=True)
    restart = serializers.CharField(allow_blank=True)


class AdvisorySerializer(StrictSerializer):
    id = serializers.CharField()
    publisher = serializers.CharField()
    title = serializers.CharField()
    version = serializers.CharField()
    released = serializers.DateTimeField()
    score = serializers.FloatField(allow_null=True)
    notes = serializers.CharField(allow_blank=True)
    remedies = RemedySerializer(many=True)
    affected = serializers.IntegerField()
    reason = serializers.CharField(allow_blank=True)
    undecided = serializers.BooleanField()
    tlp = serializers.CharField(allow_blank=True)
    concerns = ConcernSerializer(many=True)
    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    brought_in = serializers.DateTimeField()


class AdvisoryFileSerializer(StrictSerializer):
    file = serializers.FileField()


class AdvisoryBroughtInSerializer(StrictSerializer):
    id = serializers.CharField()
    title = serializers.CharField()
    state = serializers.ChoiceField(choices=["new", "known", "renewed"])


def advisory_row(row: AdvisoryFile, assessed: AdvisoryImpact) -> dict[str, Any]:
    """One advisory on this fleet."""
    names = ("id", "publisher", "title", "version", "released", "score", "notes", "remedies", "tlp")
    return {
        **{name: getattr(assessed.advisory, name) for name in names},
        "affected": len(assessed.affected),
        "reason": assessed.reason,
        "undecided": assessed.undecided,
        "concerns": [_concern(concern) for concern in assessed.concerns],
        "source": row.source,
        "brought_in": row.brought_in,
    }


def _concern(concern) -> dict[str, Any]:
    names = ("product", "name", "version", "status", "ends", "within", "components")
    return {
        **{name: getattr(concern, name) for name in names},
        "servers": list(concern.servers[:NAMES_SHOWN]),
        "server_count": len(concern.servers),
    }


class AdvisoriesView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(responses=AdvisorySerializer(many=True))
    def get(self, request) -> Response:
        """All advisories: which servers run something affected, which release ends it, or why none applies."""
        assessment = current_assessment()
        rows = [
            advisory_row(row, assess(value, assessment.folds, assessment.catalogs)) for row, value in load_advisories()
        ]
        rows.sort(key=lambda r: (r["affected"] == 0 and not r["undecided"], -(r["score"] or 0)))
        return Response(AdvisorySerializer(rows, many=True).data)

    @extend_schema(
        request={"multipart/form-data": AdvisoryFileSerializer}, responses={201: AdvisoryBroughtInSerializer}
    )
    def post(self, request) -> Response:
        """Bring in one CSAF 2.0 advisory; one that is cut, altered or malformed is refused whole."""
        body = AdvisoryFileSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        file = body.validated_data["file"]
        if file.size > MAX_ADVISORY:
            message = f"{file.name} is larger than {MAX_ADVISORY // 2**20} MiB."
            raise Problem("too-large", message, status=413, field="file")
        advisory, state = bring_in_advisory(unpack(file.read(), file.name, MAX_ADVISORY), file.name)
        told_row = {"id": advisory.id, "title": advisory.title, "state": state}
        return Response(AdvisoryBroughtInSerializer(told_row).data, status=201 if state == "new" else 200)
