"""Bring host reports in; they are laid over the readings from then on, with origin and age."""

from __future__ import annotations

import datetime
import json
from dataclasses import dataclass
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.merge import HostReport, merge_host_report
from ordnung.formats.host_report import parse_host_report
from ordnung.server.apart import apart
from ordnung.server.api.files import read_file
from ordnung.server.audit.recording import record, recorded
from ordnung.server.clock import now
from ordnung.server.fleet.models import Report, Server
from ordnung.server.fleet.readings import find_by_identity, tell_nobody, value_of
from ordnung.server.problems import Problem
from ordnung.server.shapes import shape
from ordnung.server.work.events import tell

_FORM = {"type": "object", "properties": {"file": {"type": "string", "format": "binary"}}}
MAX_BYTES = 2 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportRow:
    """What a report brought: how many devices matched, came new, or differ from the controller's word."""

    server: str
    taken_at: datetime.datetime
    matched: int
    added: list[str]
    differs: list[str]


class ReportsView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(
        request={"multipart/form-data": _FORM},
        responses={201: shape(ReportRow)},
    )
    def post(self, request: Request) -> Response:
        """Take a host report in; it finds its server by serial or UUID, never by name."""
        file = request.FILES.get("file")
        if file is None:
            raise Problem("file-missing", "Choose the file of a host report.", field="file")
        file_name, raw = read_file(file, MAX_BYTES)
        report = apart(parse_host_report, file_name, raw, file_name)
        row = find_by_identity(report)
        if row is None:
            message = f"{file_name}: {tell_nobody(report)}."
            raise Problem("not-found", f"{message} Read the server first, or add it.", field="file")
        if row.report is not None and row.report.taken_at > report.taken_at:
            message = (
                f"{file_name} is from {report.taken_at:%d %b %Y %H:%M}; a later one of {row.name} is here already."
            )
            raise Problem("older", message, status=409)
        return Response(store_report(row, report, json.loads(raw)), status=201)


def store_report(row: Server, report: HostReport, body: dict[str, Any]) -> ReportRow:
    """Keep a report; what it changes, in words."""
    with recorded():
        record(on={"server": row.name}, after={"taken_at": report.taken_at.isoformat()})
        kept = Report.objects.create(server=row, taken_at=report.taken_at, added_at=now(), body=body)
        row.report = kept
        row.save(update_fields=["report"])
        tell("readings", servers=[row.name])
    assert row.latest is not None
    merged = merge_host_report(value_of(row.latest, row.name), report)
    parts = merged.components
    return ReportRow(
        server=row.name,
        taken_at=report.taken_at,
        matched=sum(c.origin == "both" for c in parts),
        added=[f"{c.name} in {c.slot}" for c in parts if c.origin == "host report"],
        differs=[f"{c.name}: controller {c.version}, report {c.reported}" for c in parts if c.reported],
    )
