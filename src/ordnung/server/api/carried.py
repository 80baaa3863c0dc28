"""Carry in what a field kit did without the site."""

from __future__ import annotations

from dataclasses import dataclass

from drf_spectacular.utils import extend_schema
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.engine.journal_lines import read_journal
from ordnung.server.apart import apart
from ordnung.server.api.files import read_file
from ordnung.server.problems import Problem
from ordnung.server.runs.carried import CarriedRunRow, carry_in_journal
from ordnung.server.shapes import shape

_FORM = {"type": "object", "properties": {"file": {"type": "string", "format": "binary"}}}
MAX_BYTES = 64 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class CarriedRow:
    """The runs of a journal, in the order in which they were."""

    runs: list[CarriedRunRow]


class CarriedView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(request={"multipart/form-data": _FORM}, responses={201: shape(CarriedRow)})
    def post(self, request: Request) -> Response:
        """Take the journal of a field kit in: its runs go on record, its readings count from now on."""
        file = request.FILES.get("file")
        if file is None:
            raise Problem("file-missing", "Choose the journal of a field kit: journal.jsonl.", field="file")
        name, raw = read_file(file, MAX_BYTES)
        return Response(CarriedRow(runs=carry_in_journal(apart(read_journal, name, raw, name), name)), status=201)
