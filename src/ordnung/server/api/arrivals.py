"""Carry a repository in: by a file sent in pieces, or from a path on this machine."""

from __future__ import annotations

import os
import re
import uuid
from dataclasses import dataclass
from typing import IO, Any

from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.parsers import BaseParser, JSONParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.api.paging import page_of, paged
from ordnung.server.problems import Problem
from ordnung.server.repositories.arriving import (
    begin_arrival,
    place_of_upload,
    place_on_machine,
    take_baseline,
    try_again,
)
from ordnung.server.repositories.models import Arrival, Repository, Upload
from ordnung.server.repositories.rows import ArrivalRow, arrival_row
from ordnung.server.repositories.uploads import UploadRow, begin_upload, upload_path, upload_row, write_piece
from ordnung.server.rights.permission import demand_right
from ordnung.server.rights.rights import Right
from ordnung.server.shapes import limited, read, shape

SHOWN = 30
MAX_PIECE = 32 * 1024 * 1024
_SPAN = re.compile(r"bytes (\d+)-(\d+)/(\d+)")


@dataclass(frozen=True, slots=True, kw_only=True)
class NewUpload:
    name: str = limited(max_length=300)
    size: int = limited(min_value=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class NewArrival:
    """``place`` is a path on this machine or ``upload`` a file that was sent whole.

    ``trust`` are the root's key ids as a person compared them; ``expired_reason`` lets an expired seal pass."""

    place: str = limited(default="", max_length=1000, allow_blank=True)
    upload: str = limited(default="", max_length=40, allow_blank=True)
    trust: str = limited(default="", max_length=2000, allow_blank=True)
    expired_reason: str = limited(default="", max_length=500, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class AgainWith:
    trust: str = limited(default="", max_length=2000, allow_blank=True)
    expired_reason: str = limited(default="", max_length=500, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class RevisionTakenRow:
    number: int


class PieceParser(BaseParser):
    """The bytes of a piece as they come."""

    media_type = "application/octet-stream"

    def parse(self, stream: IO[Any], media_type: str | None = None, parser_context: Any = None) -> Any:
        """The whole piece; larger ones are refused."""
        raw: bytes = stream.read(MAX_PIECE + 1)
        if len(raw) > MAX_PIECE:
            raise Problem("too-large", f"A piece has at most {MAX_PIECE // 2**20} MiB.", status=413)
        return raw


class UploadsView(APIView):
    @extend_schema(request=shape(NewUpload), responses={201: shape(UploadRow)})
    def post(self, request: Request) -> Response:
        """Begin to send a file, or go on with one of this name and size that this person began."""
        asked = read(NewUpload, request)
        row = begin_upload(person=request.user.username, name=asked.name, size=asked.size)
        return Response(upload_row(row), status=201)


class UploadView(APIView):
    parser_classes = [PieceParser]

    @extend_schema(responses=shape(UploadRow))
    def get(self, request: Request, pk: str) -> Response:
        """How much of it has come."""
        return Response(upload_row(_upload(request, pk)))

    @extend_schema(request={"application/octet-stream": OpenApiTypes.BINARY}, responses=shape(UploadRow))
    def put(self, request: Request, pk: str) -> Response:
        """The next piece, named by Content-Range; one that does not follow on is refused with how far it is."""
        row = _upload(request, pk)
        match = _SPAN.fullmatch(request.headers.get("Content-Range", ""))
        raw: Any = request.data
        if match is None or int(match[3]) != row.size or int(match[2]) - int(match[1]) + 1 != len(raw):
            raise Problem("invalid", "The piece is not as long as its Content-Range says.", status=400)
        with write_piece(row) as file:
            received = file.seek(0, os.SEEK_END)
            if int(match[1]) != received or received + len(raw) > row.size:
                detail = f"{received} of {row.size} bytes are here; go on from there."
                raise Problem("not-next", detail, status=409, field=str(received))
            file.write(raw)
        return Response(upload_row(row))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: str) -> Response:
        """Give an upload up."""
        row = _upload(request, pk)
        upload_path(row).unlink(missing_ok=True)
        row.delete()
        return Response(status=204)


def _upload(request: Request, pk: str) -> Upload:
    try:
        uuid.UUID(str(pk))
    except ValueError:
        raise Problem("not-found", "There is no such upload.", status=404, field="upload") from None
    return get_object_or_404(Upload, pk=pk, person=request.user.username)


class ArrivalsView(APIView):
    parser_classes = [JSONParser]

    @paged(ArrivalRow)
    def get(self, request: Request) -> Response:
        """What was carried in, the latest first, refusals included, in pages."""
        return page_of(request, Arrival.objects.order_by("-pk"), arrival_row, SHOWN)

    @extend_schema(request=shape(NewArrival), responses={202: shape(ArrivalRow)})
    def post(self, request: Request) -> Response:
        """Carry in what lies at a path or was sent; it is verified whole before anything is stored.

        To trust its keys or to take an expired one takes the right to approve besides.
        """
        asked = read(NewArrival, request)
        if asked.trust or asked.expired_reason:
            demand_right(request, Right.APPROVE, "accept its keys or an expired seal")
        place = place_of_upload(_upload(request, asked.upload)) if asked.upload else place_on_machine(asked.place)
        row = begin_arrival(place, asked.trust, asked.expired_reason, request.user.get_username())
        return Response(arrival_row(row), status=202)


class ArrivalAgainView(APIView):
    @extend_schema(request=shape(AgainWith), responses={202: shape(ArrivalRow)})
    def post(self, request: Request, pk: int) -> Response:
        """Try again what was refused: trusting its keys, or in spite of its expired seal."""
        asked = read(AgainWith, request)
        before = get_object_or_404(Arrival, pk=pk)
        row = try_again(before, asked.trust, asked.expired_reason, request.user.get_username())
        return Response(arrival_row(row), status=202)


class TakeBaselineView(APIView):
    @extend_schema(request=None, responses={201: shape(RevisionTakenRow)})
    def post(self, request: Request, pk: int) -> Response:
        """Make the rules and the followed issues of a carried-in repository this site's next revision."""
        fresh = take_baseline(get_object_or_404(Repository, pk=pk), request.user.get_username())
        return Response(RevisionTakenRow(number=fresh.number), status=201)
