"""The fleet as files: CSV for people's tables, readings for the command line and other sites."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.views import APIView

from ordnung.formats.readings import write_readings
from ordnung.server.api.selections import SERVERS
from ordnung.server.api.tables import FOR, write_table
from ordnung.server.assessment.current import Assessment, current_assessment
from ordnung.server.assessment.present import resets_text
from ordnung.server.fleet.selections import chosen_names

COLUMNS = (
    "server", "address", "model", "serial", "room", "rack", "unit", "group", "role", "tags", "read_at", "failure",
    "slot", "kind", "component", "version", "waiting", "target", "verdict", "releases_behind", "fixes_missing",
    "resets_to_pay", "origin",
)  # fmt: skip
TEXTS = (
    "server",
    "model",
    "serial",
    "room",
    "rack",
    "group",
    "role",
    "tags",
    "slot",
    "component",
    "version",
    "waiting",
    "target",
)


def _chosen(request: HttpRequest, assessment: Assessment) -> list[str]:
    asked = chosen_names(request.GET.get("servers", ""))
    return [name for name in assessment.rows if not asked or name in asked]


class CsvView(APIView):
    @extend_schema(parameters=[SERVERS, FOR], responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request: Request) -> HttpResponse:
        """One row a component; a server without components has one row too."""
        assessment = current_assessment()
        rows = (row for name in _chosen(request, assessment) for row in _rows(assessment, name))
        return write_table(request, "servers.csv", COLUMNS, TEXTS, rows)


def _rows(assessment: Assessment, name: str) -> list[tuple[object, ...]]:
    row, standing = assessment.rows[name], assessment.standings[name]
    server, resets = standing.server, resets_text(standing.route)
    read = server.read_at.isoformat() if server.read_at else ""
    where = (row.room, row.rack, row.unit, server.group, row.role, " ".join(row.tags))
    head = (name, row.url.removeprefix("https://"), server.model, server.serial, *where, read, row.cause)
    found: list[tuple[object, ...]] = []
    for c, d in zip(server.components, standing.drift, strict=True):
        own = (c.slot, c.kind, c.name, c.version, c.waiting if c.has_waiting else None)
        found.append((*head, *own, d.target, d.verdict.word, d.behind, " ".join(d.fixes), resets, c.origin))
    return found or [(*head, *[""] * 11)]


class ReadingsFileView(APIView):
    @extend_schema(parameters=[SERVERS], responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request: Request) -> HttpResponse:
        """The latest readings as ``ordnung.readings/1``, host reports laid over them."""
        assessment = current_assessment()
        servers = [assessment.standings[name].server for name in _chosen(request, assessment)]
        headers = {"Content-Disposition": 'attachment; filename="readings.json"'}
        return HttpResponse(write_readings(servers), content_type="application/json", headers=headers)
