"""The audit trail: look through it, check it, take it along."""

from __future__ import annotations

import datetime
import json
from dataclasses import dataclass
from typing import Any, Literal

from django.conf import settings
from django.db.models import QuerySet
from django.http import HttpResponse
from django.utils.dateparse import parse_datetime
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.formats.audit import Trail, check_trail, write_trail
from ordnung.server.api.tables import FOR, write_table
from ordnung.server.audit.heads import public_half, sign_head, site_key
from ordnung.server.audit.models import TrailEntry, TrailHead
from ordnung.server.audit.recording import recorded
from ordnung.server.audit.trail import subject
from ordnung.server.problems import Problem
from ordnung.server.shapes import asked_number, row_from, shape

PAGE, MOST = 50, 200
HEADS_SHOWN = 5
COLUMNS = ("number", "at", "who", "where", "command", "on", "asked", "before", "after", "result", "detail", "link")
_FILTERS = [
    OpenApiParameter("who", str, description="One person."),
    OpenApiParameter("server", str, description="What concerns one server."),
    OpenApiParameter("run", int, description="What concerns one run."),
    OpenApiParameter("command", str, description="One kind of command."),
    OpenApiParameter("result", str, enum=["done", "refused", "failed"]),
    OpenApiParameter("since", OpenApiTypes.DATETIME),
    OpenApiParameter("until", OpenApiTypes.DATETIME),
]


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditEntryRow:
    number: int
    at: datetime.datetime
    who: str
    where: str
    command: str
    on: dict[str, Any]
    asked: dict[str, Any]
    before: dict[str, Any]
    after: dict[str, Any]
    result: Literal["done", "refused", "failed"]
    detail: str
    link: str


@dataclass(frozen=True, slots=True, kw_only=True)
class HeadRow:
    number: int
    at: datetime.datetime
    link: str
    key: str
    signature: str
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditPageRow:
    total: int
    entries: list[AuditEntryRow]
    heads: list[HeadRow]
    key: str
    people: list[str]
    commands: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditCheckRow:
    entries: int
    heads: int
    faults: list[str]


def filtered(asked: Any) -> QuerySet[TrailEntry]:
    """The entries that a question is about. Raises Problem for a time or a number that is none."""
    rows = TrailEntry.objects.all()
    for name in ("who", "command", "result"):
        if asked.get(name):
            rows = rows.filter(**{name: asked[name][:200]})
    if asked.get("server"):
        rows = rows.filter(subjects__contains=subject("server", asked["server"][:200]))
    if asked.get("run"):
        rows = rows.filter(subjects__contains=subject("run", asked["run"][:20]))
    for name, lookup in (("since", "at__gte"), ("until", "at__lte")):
        if asked.get(name):
            rows = rows.filter(**{lookup: _moment(asked[name], name)})
    return rows


def _moment(text: str, name: str) -> Any:
    try:
        found = parse_datetime(text)
    except ValueError:
        found = None
    if found is None or found.tzinfo is None:
        raise Problem("no-time", f"{text[:40]!r} is no time with a zone.", field=name)
    return found


class AuditView(APIView):
    @extend_schema(
        parameters=[*_FILTERS, OpenApiParameter("before", int, description="Entries with lower numbers only."),
                    OpenApiParameter("limit", int, description=f"At most {MOST}; {PAGE} without.")],
        responses=shape(AuditPageRow),
    )  # fmt: skip
    def get(self, request: Request) -> Response:
        """The trail, newest first, a page at a time; the newest heads that were signed, and the site's public key."""
        asked = request.query_params
        rows = filtered(asked)
        total, before = rows.count(), asked_number(asked, "before", 0)
        shown = rows.filter(number__lt=before) if before else rows
        limit = min(MOST, max(1, asked_number(asked, "limit", PAGE)))
        people = TrailEntry.objects.exclude(who="").order_by("who").values_list("who", flat=True).distinct()[:200]
        body = AuditPageRow(
            total=total,
            entries=[row_from(AuditEntryRow, row) for row in shown.order_by("-number")[:limit]],
            heads=[row_from(HeadRow, row) for row in TrailHead.objects.order_by("-number")[:HEADS_SHOWN]],
            key=public_half(site_key()),
            people=list(people),
            commands=list(TrailEntry.objects.order_by("command").values_list("command", flat=True).distinct()),
        )
        return Response(body)


class AuditCheckView(APIView):
    @extend_schema(responses=shape(AuditCheckRow))
    def get(self, request: Request) -> Response:
        """Check the whole trail: every link, and every head that was signed."""
        trail = whole_trail()
        faults = check_trail(trail, public_half(site_key()))
        lines = [f"entry {fault.number}: {fault.what}" for fault in faults]
        return Response(AuditCheckRow(entries=len(trail.entries), heads=len(trail.heads), faults=lines))


class AuditHeadsView(APIView):
    @extend_schema(request=None, responses={201: shape(HeadRow)})
    def post(self, request: Request) -> Response:
        """Sign the newest link now, which is that of this very command, and give it out."""
        with recorded(first=True):
            head = sign_head(f"asked for by {request.user.get_username()}")
        assert head is not None
        return Response(row_from(HeadRow, TrailHead.objects.get(number=head.number)), status=201)


def whole_trail() -> Trail:
    """The trail with all its heads."""
    return Trail(
        site=settings.SITE,
        entries=tuple(row.entry() for row in TrailEntry.objects.order_by("number").iterator()),
        heads=tuple(row.head() for row in TrailHead.objects.order_by("number")),
    )


class AuditJsonView(APIView):
    @extend_schema(responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request: Request) -> HttpResponse:
        """The whole trail as ``ordnung.audit/1``, to be checked elsewhere with ``ordnung audit verify``."""
        return _file(write_trail(whole_trail()), "application/json", "audit.json")


class AuditCsvView(APIView):
    @extend_schema(parameters=[*_FILTERS, FOR], responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request: Request) -> HttpResponse:
        """What is asked for of the trail, as a table; what is told of a thing stands as JSON in its cell."""
        found = filtered(request.query_params).iterator()
        rows = ([_plain(getattr(row, name)) for name in COLUMNS] for row in found)
        return write_table(request, "audit.csv", COLUMNS, (), rows)


def _plain(value: Any) -> Any:
    if isinstance(value, datetime.datetime):
        return value.isoformat().replace("+00:00", "Z")
    return json.dumps(value, ensure_ascii=False, sort_keys=True) if isinstance(value, dict) else value


def _file(raw: bytes, kind: str, name: str) -> HttpResponse:
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return HttpResponse(raw, content_type=kind, headers=headers)
