"""A server's readings over time: what changed, and what vanished."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.formats.text import whole_number
from ordnung.server.api.paging import page_of, paged, rows_of
from ordnung.server.fleet.commands import find_server, mark_loss_seen
from ordnung.server.fleet.models import Reading, Server
from ordnung.server.fleet.readings import changes_between
from ordnung.server.problems import Problem
from ordnung.server.shapes import row_from, shape

SHOWN = 100


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadingRow:
    id: int
    read_at: datetime.datetime
    components: int
    changes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeRow:
    what: str
    slot: str
    kind: str
    name: str
    before: str | None
    after: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangesRow:
    before: ReadingRow
    after: ReadingRow
    changes: list[ChangeRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class LostRow:
    server: str
    slot: str
    kind: str
    name: str
    version: str | None
    missed_at: datetime.datetime


def reading_row(reading: Reading) -> ReadingRow:
    """One reading as the list gives it."""
    return row_from(ReadingRow, reading, components=len(reading.parts))


class ReadingsView(APIView):
    @paged(ReadingRow)
    def get(self, request: Request, name: str) -> Response:
        """The readings of a server, newest first, in pages."""
        rows = find_server(name).readings.order_by("-pk")
        return page_of(request, rows, reading_row, SHOWN)


class ChangesView(APIView):
    @extend_schema(
        responses=shape(ChangesRow),
        parameters=[OpenApiParameter("before", int), OpenApiParameter("after", int)],
    )
    def get(self, request: Request, name: str) -> Response:
        """What changed between two readings of a server; by default the last that brought a change."""
        row = find_server(name)
        before, after = self._pair(row, request.query_params)
        changes = [row_from(ChangeRow, change) for change in changes_between(before, after, name)]
        return Response(ChangesRow(before=reading_row(before), after=reading_row(after), changes=changes))

    def _pair(self, row: Server, asked: Any) -> tuple[Reading, Reading]:
        readings = row.readings.order_by("-pk")
        after = self._one(row, asked["after"]) if "after" in asked else readings.filter(changes__gt=0).first()
        after = after or readings.first()
        if after is None:
            raise Problem("not-read", f"{row.name} was not read yet.", status=404)
        if "before" in asked:
            return self._one(row, asked["before"]), after
        return readings.filter(pk__lt=after.pk).first() or after, after

    def _one(self, row: Server, number: str) -> Reading:
        found = row.readings.filter(pk=whole_number(number) or 0).first()
        if found is None:
            raise Problem("not-found", f"{row.name} has no reading {number[:20]}.", status=404)
        return found


class LostView(APIView):
    @paged(LostRow)
    def get(self, request: Request) -> Response:
        """Everything in the house that was there once and is not any more, until someone has looked at it."""
        rows = Server.objects.exclude(lost=[]).order_by("name")
        return rows_of(request, [LostRow(server=row.name, **item) for row in rows for item in row.lost])


class LostSeenView(APIView):
    @extend_schema(request=None, responses={204: None})
    def post(self, request: Request, name: str) -> Response:
        """A person has seen what a server has lost: it is taken off the list. The readings keep it."""
        mark_loss_seen(find_server(name))
        return Response(status=204)
