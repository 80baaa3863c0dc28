"""Long lists in pages: as much as is asked for, and how much there is in all."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from django.db.models import QuerySet
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response

from ordnung.server.shapes import limited, read, shape

MOST = 5000
TOTAL = "X-Total-Count"
_FAR = 2**31 - 1
_ASKED = [
    OpenApiParameter("limit", {"type": "integer", "minimum": 1, "maximum": MOST}, required=False),
    OpenApiParameter("offset", {"type": "integer", "minimum": 0, "maximum": _FAR}, required=False),
    OpenApiParameter(TOTAL, int, location=OpenApiParameter.HEADER, response=[200], description="How many there are."),
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Page:
    limit: int | None = limited(default=None, min_value=1, max_value=MOST)
    offset: int = limited(default=0, min_value=0, max_value=_FAR)


def paged(row: type[Any], *more: OpenApiParameter) -> Callable[..., Any]:
    """How the contract describes a list of such rows in pages."""
    return extend_schema(responses=shape(row)(many=True), parameters=[*_ASKED, *more])


def rows_of(request: Request, rows: Sequence[Any]) -> Response:
    """A page of rows that are at hand: all of them, unless fewer are asked for."""
    asked = _asked(request)
    end = None if asked.limit is None else asked.offset + asked.limit
    return _page(rows[asked.offset : end], len(rows))


def page_of(request: Request, rows: QuerySet[Any], tell: Callable[[Any], Any], usual: int) -> Response:
    """A page of rows, each told by ``tell``; the answer says in ``X-Total-Count`` how many there are in all."""
    asked = _asked(request)
    return _page([tell(row) for row in rows[asked.offset : asked.offset + (asked.limit or usual)]], rows.count())


def _asked(request: Request) -> Page:
    query = request.query_params
    return read(Page, {name: query[name] for name in ("limit", "offset") if name in query})


def _page(rows: Sequence[Any], total: int) -> Response:
    return Response(rows, headers={TOTAL: str(total)})
