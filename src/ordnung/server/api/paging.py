"""Long lists in pages: as much as is asked for, and how much there is in all."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db.models import QuerySet
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response

from ordnung.server.shapes import StrictSerializer

MOST = 5000
TOTAL = "X-Total-Count"
_FAR = 2**31 - 1
_ASKED = [
    OpenApiParameter("limit", {"type": "integer", "minimum": 1, "maximum": MOST}, required=False),
    OpenApiParameter("offset", {"type": "integer", "minimum": 0, "maximum": _FAR}, required=False),
    OpenApiParameter(TOTAL, int, location=OpenApiParameter.HEADER, response=[200], description="How many there are."),
]


class PageSerializer(StrictSerializer):
    limit = serializers.IntegerField(min_value=1, max_value=MOST, required=False)
    offset = serializers.IntegerField(min_value=0, max_value=_FAR, default=0)


def paged(shape: type[StrictSerializer], *more: OpenApiParameter) -> Callable[..., Any]:
    """How the contract describes a list in pages."""
    return extend_schema(responses=shape(many=True), parameters=[*_ASKED, *more])


def page_of(
    request: Request, rows: QuerySet, shape: type[StrictSerializer], tell: Callable[[Any], Any], usual: int
) -> Response:
    """A page of rows, each told by ``tell``; the answer says in ``X-Total-Count`` how many there are in all."""
    query = request.query_params
    asked = PageSerializer(data={name: query[name] for name in ("limit", "offset") if name in query})
    asked.is_valid(raise_exception=True)
    start, limit = asked.validated_data["offset"], asked.validated_data.get("limit", usual)
    body = [tell(row) for row in rows[start : start + limit]]
    return Response(shape(body, many=True).data, headers={TOTAL: str(rows.count())})
