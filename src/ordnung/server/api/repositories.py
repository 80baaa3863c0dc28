"""Repositories: what would be packed, make, look, check, pack again, sign, drop."""

from __future__ import annotations

from dataclasses import dataclass

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.packing import By, Trim
from ordnung.repository.seal import signatures_due
from ordnung.server.api.files import SentFile, read_file
from ordnung.server.api.paging import page_of, paged
from ordnung.server.repositories.commands import (
    add_signatures,
    check_repository,
    draft_of,
    drop_repository,
    pack,
    pack_again,
)
from ordnung.server.repositories.models import Repository
from ordnung.server.repositories.packing_job import DRAFT
from ordnung.server.repositories.packing_rows import PackingRow, packing_row
from ordnung.server.repositories.payloads import open_book, seal_folder
from ordnung.server.repositories.plans import Plan, make_plan
from ordnung.server.repositories.rows import RepositoryHeadRow, RepositoryRow, head_row, repository_row
from ordnung.server.shapes import limited, read, row_from, shape, upload
from ordnung.server.work.rows import WorkRow, work_row

SHOWN = 100
MAX_SIGNED = 16 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class TrimChoice:
    by: By
    value: str = limited(max_length=500)


@dataclass(frozen=True, slots=True, kw_only=True)
class PackingChoice:
    """What is to be packed: nothing but ``servers`` has to be said; none means all."""

    servers: list[str] = limited(default=list, allow_empty=True)
    trims: list[TrimChoice] = limited(default=list)
    revision: int | None = limited(default=None, allow_null=True)
    capacity: int | None = limited(default=None, allow_null=True, min_value=1_000_000)
    boots: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class NewRepository(PackingChoice):
    name: str = limited(default="", max_length=200, allow_blank=True)


def _plan(asked: PackingChoice) -> Plan:
    trims = [Trim(by=trim.by, value=trim.value) for trim in asked.trims]
    return make_plan(asked.servers or None, trims, asked.revision)


class PackingView(APIView):
    @extend_schema(request=shape(PackingChoice), responses=shape(PackingRow))
    def post(self, request: Request) -> Response:
        """The packing list for the chosen servers, without making anything."""
        asked = read(PackingChoice, request)
        return Response(packing_row(_plan(asked), asked.capacity, boots=asked.boots))


class RepositoriesView(APIView):
    @paged(RepositoryHeadRow)
    def get(self, request: Request) -> Response:
        """All repositories, newest first, in pages."""
        rows = Repository.objects.order_by("-pk").prefetch_related("lines")
        return page_of(request, rows, head_row, SHOWN)

    @extend_schema(request=shape(NewRepository), responses={202: shape(RepositoryRow)})
    def post(self, request: Request) -> Response:
        """Pack a repository for the chosen servers; the engine fetches, checks and seals."""
        asked = read(NewRepository, request)
        row = pack(_plan(asked), asked.name, asked.capacity, request.user.username, boots=asked.boots)
        return Response(repository_row(row), status=202)


class RepositoryView(APIView):
    @extend_schema(responses=shape(RepositoryRow))
    def get(self, request: Request, pk: int) -> Response:
        """One repository with its packing list."""
        return Response(repository_row(get_object_or_404(Repository, pk=pk)))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Drop a repository; payloads that no other one needs go at the next clearing of the store."""
        drop_repository(get_object_or_404(Repository, pk=pk))
        return Response(status=204)


class RepositoryCheckView(APIView):
    @extend_schema(request=None, responses={202: shape(WorkRow)})
    def post(self, request: Request, pk: int) -> Response:
        """Verify a repository end to end; what was found is told on it."""
        work = check_repository(get_object_or_404(Repository, pk=pk))
        return Response(work_row(work), status=202)


@dataclass(frozen=True, slots=True, kw_only=True)
class Again:
    """``same`` keeps the contents and only makes a new seal; otherwise what is needed today is packed."""

    same: bool = False


class RepositoryAgainView(APIView):
    @extend_schema(request=shape(Again), responses={202: shape(RepositoryRow)})
    def post(self, request: Request, pk: int) -> Response:
        """The next edition: packed by what is needed today, or the same contents under a new seal."""
        asked = read(Again, request)
        row = get_object_or_404(Repository, pk=pk)
        fresh = pack_again(row, request.user.get_username(), same=asked.same)
        return Response(repository_row(fresh), status=202)


@dataclass(frozen=True, slots=True, kw_only=True)
class SignatureFile:
    file: SentFile = upload()


@dataclass(frozen=True, slots=True, kw_only=True)
class SignaturesDueRow:
    role: str
    have: int
    threshold: int
    open_to: list[str]


class RepositorySignaturesView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(responses=shape(SignaturesDueRow))
    def get(self, request: Request, pk: int) -> Response:
        """Which signatures a repository waits for."""
        needed = signatures_due(draft_of(get_object_or_404(Repository, pk=pk)), open_book())
        return Response(row_from(SignaturesDueRow, needed))

    @extend_schema(request={"multipart/form-data": shape(SignatureFile)}, responses=shape(RepositoryRow))
    def post(self, request: Request, pk: int) -> Response:
        """Bring signatures that were made elsewhere; the repository is sealed when they are enough."""
        row = get_object_or_404(Repository, pk=pk)
        add_signatures(row, read_signed(request))
        return Response(repository_row(row))


def read_signed(request: Request) -> bytes:
    """An uploaded metadata file. Raises Problem when it is too large."""
    return read_file(read(SignatureFile, request).file, MAX_SIGNED)[1]


class RepositoryTargetsView(APIView):
    @extend_schema(responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The file to be signed elsewhere."""
        row = get_object_or_404(Repository, pk=pk)
        draft_of(row)
        answer = HttpResponse((seal_folder(row) / DRAFT).read_bytes(), content_type="application/json")
        answer["Content-Disposition"] = f'attachment; filename="to-sign-{row.pk:04d}-{row.edition}.targets.json"'
        return answer
