"""Catalog issues: list and bring in."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.parsers import MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.formats.documents import MAX_BYTES
from ordnung.server.catalogs.bring_in import bring_in
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.house import load_catalogs
from ordnung.server.problems import Problem


class IssueSerializer(serializers.Serializer):
    maker = serializers.CharField()
    catalog = serializers.CharField()
    issue = serializers.CharField()
    issued = serializers.DateField()
    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    brought_in = serializers.DateTimeField()
    models = serializers.ListField(child=serializers.CharField())
    products = serializers.IntegerField()
    releases = serializers.IntegerField()


class FileSerializer(serializers.Serializer):
    file = serializers.FileField()


def issue_rows() -> list[dict]:
    """Every issue at hand, newest first."""
    values = {(i.maker, i.catalog, i.issue): i for i in load_catalogs().issues}
    rows = []
    for row in CatalogIssue.objects.defer("raw").order_by("-issued", "catalog"):
        value = values[row.maker, row.catalog, row.issue]
        rows.append(
            {
                "maker": row.maker,
                "catalog": row.catalog,
                "issue": row.issue,
                "issued": row.issued,
                "source": row.source,
                "brought_in": row.brought_in,
                "models": list(value.models),
                "products": len(value.products),
                "releases": sum(len(p.releases) for p in value.products),
            }
        )
    return rows


class CatalogsView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(responses=IssueSerializer(many=True))
    def get(self, request) -> Response:
        """All issues at hand."""
        return Response(IssueSerializer(issue_rows(), many=True).data)

    @extend_schema(request={"multipart/form-data": FileSerializer}, responses={201: IssueSerializer})
    def post(self, request) -> Response:
        """Bring in one issue. A file that is cut, altered or malformed is refused whole, and nothing changes."""
        body = FileSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        file = body.validated_data["file"]
        if file.size > MAX_BYTES:
            raise Problem(
                "too-large", f"{file.name} is larger than {MAX_BYTES // 2**20} MiB.", status=413, field="file"
            )
        issue, is_new = bring_in(file.read(), file.name)
        row = next(r for r in issue_rows() if (r["catalog"], r["issue"]) == (issue.catalog, issue.issue))
        return Response(IssueSerializer(row).data, status=201 if is_new else 200)
