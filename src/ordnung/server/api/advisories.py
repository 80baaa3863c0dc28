"""Advisories: bring in, and who is affected."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Literal

from drf_spectacular.utils import extend_schema
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.advisories import AdvisoryImpact, Concern, assess
from ordnung.formats.compressed import unpack
from ordnung.server.advisories.models import AdvisoryFile
from ordnung.server.advisories.store import bring_in_advisory, load_advisories
from ordnung.server.apart import apart
from ordnung.server.api.files import SentFile, read_file
from ordnung.server.api.paging import paged, rows_of
from ordnung.server.assessment.current import current_assessment
from ordnung.server.baselines.rows import NAMES_SHOWN
from ordnung.server.shapes import read, row_from, shape, upload

MAX_ADVISORY = 16 * 2**20


@dataclass(frozen=True, slots=True, kw_only=True)
class ConcernRow:
    product: str
    name: str
    version: str
    status: Literal["affected", "open", "unknown", "fixed", "not affected"]
    ends: str | None
    within: bool
    components: int
    servers: list[str]
    server_count: int


@dataclass(frozen=True, slots=True, kw_only=True)
class RemedyRow:
    category: str
    details: str
    url: str
    restart: str


@dataclass(frozen=True, slots=True, kw_only=True)
class AdvisoryRow:
    id: str
    publisher: str
    title: str
    version: str
    released: datetime.datetime
    score: float | None
    notes: str
    remedies: list[RemedyRow]
    affected: int
    reason: str
    undecided: bool
    tlp: str
    concerns: list[ConcernRow]
    source: str
    brought_in: datetime.datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class AdvisoryUpload:
    file: SentFile = upload()


@dataclass(frozen=True, slots=True, kw_only=True)
class AdvisoryBroughtInRow:
    id: str
    title: str
    state: Literal["new", "known", "renewed"]


def advisory_row(row: AdvisoryFile, impact: AdvisoryImpact) -> AdvisoryRow:
    """One advisory on this fleet."""
    return row_from(
        AdvisoryRow, impact.advisory, affected=len(impact.affected), reason=impact.reason, undecided=impact.undecided,
        concerns=[_concern(concern) for concern in impact.concerns], source=row.source, brought_in=row.brought_in,
        remedies=[row_from(RemedyRow, remedy) for remedy in impact.advisory.remedies],
    )  # fmt: skip


def _concern(concern: Concern) -> ConcernRow:
    servers = list(concern.servers[:NAMES_SHOWN])
    return row_from(ConcernRow, concern, servers=servers, server_count=len(concern.servers))


class AdvisoriesView(APIView):
    parser_classes = [MultiPartParser]

    @paged(AdvisoryRow)
    def get(self, request: Request) -> Response:
        """All advisories: which servers run something affected, which release ends it, or why none applies."""
        assessment = current_assessment()
        rows = [
            advisory_row(row, assess(value, assessment.folds, assessment.catalogs)) for row, value in load_advisories()
        ]
        rows.sort(key=lambda r: (r.affected == 0 and not r.undecided, -(r.score or 0)))
        return rows_of(request, rows)

    @extend_schema(request={"multipart/form-data": shape(AdvisoryUpload)}, responses={201: shape(AdvisoryBroughtInRow)})
    def post(self, request: Request) -> Response:
        """Bring in one CSAF 2.0 advisory; one that is cut, altered or malformed is refused whole."""
        name, packed = read_file(read(AdvisoryUpload, request).file, MAX_ADVISORY)
        advisory, state = bring_in_advisory(apart(unpack, name, packed, name, MAX_ADVISORY), name)
        row = row_from(AdvisoryBroughtInRow, advisory, state=state)
        return Response(row, status=201 if state == "new" else 200)
