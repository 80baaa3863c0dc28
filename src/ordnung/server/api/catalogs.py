"""Catalog issues, their sources, and the keys that may sign them."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Any, Literal

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.parsers import JSONParser, MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.catalog import Issue
from ordnung.core.releases import compare_issues
from ordnung.formats.compressed import unpack
from ordnung.formats.documents import MAX_BYTES
from ordnung.formats.signatures import read_signature
from ordnung.repository import read_root
from ordnung.server.apart import apart
from ordnung.server.api.files import SentFile, read_file
from ordnung.server.api.paging import paged, rows_of
from ordnung.server.assessment.current import load_catalogs
from ordnung.server.catalogs.bring_in import bring_in
from ordnung.server.catalogs.commands import add_source, fetch_sources, trust_key
from ordnung.server.catalogs.models import CatalogIssue, Source, TrustedKey
from ordnung.server.problems import Problem
from ordnung.server.shapes import limited, read, row_from, shape, upload
from ordnung.server.work.events import tell
from ordnung.server.work.rows import WorkRow, work_row


@dataclass(frozen=True, slots=True, kw_only=True)
class IssueRow:
    maker: str
    catalog: str
    issue: str
    issued: datetime.date
    source: str
    signed_by: str
    brought_in: datetime.datetime
    models: list[str]
    products: int
    releases: int


@dataclass(frozen=True, slots=True, kw_only=True)
class BroughtInRow(IssueRow):
    state: Literal["new", "known", "signed"]
    older_than: str


@dataclass(frozen=True, slots=True, kw_only=True)
class CatalogFile:
    file: SentFile = upload()
    signature: SentFile | None = upload(default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class SourceRow:
    id: int
    kind: Literal["mirror", "folder"]
    address: str
    proxy: str
    maker: str
    trust: str
    added_at: datetime.datetime
    answered_at: datetime.datetime | None
    said: str
    failed_at: datetime.datetime | None
    failure: str


@dataclass(frozen=True, slots=True, kw_only=True)
class NewSource:
    """``tuf_root`` is the root metadata to trust, for a mirror that is a TUF repository."""

    address: str = limited(max_length=500)
    proxy: str = limited(default="", max_length=500, allow_blank=True)
    maker: str = limited(default="", max_length=200, allow_blank=True)
    tuf_root: str = limited(default="", max_length=200000, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class SourcesFetch:
    sources: list[int] | None = limited(default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyRow:
    id: int
    maker: str
    name: str
    key: str
    added_at: datetime.datetime
    added_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class NewKey:
    maker: str = limited(max_length=200)
    name: str = limited(max_length=200)
    key: str = limited(max_length=200)


@dataclass(frozen=True, slots=True, kw_only=True)
class IssueChangeRow:
    what: Literal["model", "product", "release"]
    change: Literal["added", "dropped", "changed"]
    name: str
    detail: str


def issue_rows() -> list[IssueRow]:
    """Every issue at hand, newest first."""
    values = {(i.maker, i.catalog, i.issue): i for i in load_catalogs().issues}
    rows = CatalogIssue.objects.defer("raw").order_by("-issued", "catalog")
    return [row_from(IssueRow, row, **_sums(values[row.maker, row.catalog, row.issue])) for row in rows]


def _sums(issue: Issue) -> dict[str, Any]:
    releases = sum(len(product.releases) for product in issue.products)
    return {"models": list(issue.models), "products": len(issue.products), "releases": releases}


class CatalogsView(APIView):
    parser_classes = [MultiPartParser]

    @paged(IssueRow)
    def get(self, request: Request) -> Response:
        """All issues at hand."""
        return rows_of(request, issue_rows())

    @extend_schema(request={"multipart/form-data": shape(CatalogFile)}, responses={201: shape(BroughtInRow)})
    def post(self, request: Request) -> Response:
        """Bring in one issue, plain, gzipped or zstd, with its detached signature where there is one.

        A file that is cut, altered or malformed is refused whole, and nothing changes.
        """
        asked = read(CatalogFile, request)
        name, packed = read_file(asked.file, MAX_BYTES)
        beside = asked.signature
        signature = read_signature(beside.read(4096), beside.name or "the signature") if beside is not None else None
        brought = bring_in(apart(unpack, name, packed, name), name, packed=packed, signature=signature)
        issue = brought.issue
        row = next(r for r in issue_rows() if (r.catalog, r.issue) == (issue.catalog, issue.issue))
        answer = row_from(BroughtInRow, row, state=brought.state, older_than=brought.older_than)
        return Response(answer, status=201 if brought.state == "new" else 200)


class IssueDiffView(APIView):
    @extend_schema(operation_id="catalogs_compare")
    @paged(IssueChangeRow)
    def get(self, request: Request, maker: str, catalog: str, old: str, new: str) -> Response:
        """What one issue of a catalog adds, drops and changes against another."""
        issues = {i.issue: i for i in load_catalogs().issues if (i.maker, i.catalog) == (maker, catalog)}
        if old not in issues or new not in issues:
            raise Problem("not-found", f"{catalog} has no issue {old if old not in issues else new} here.", status=404)
        changes = compare_issues(issues[old], issues[new])
        return rows_of(request, [row_from(IssueChangeRow, change) for change in changes])


def source_row(row: Source) -> SourceRow:
    """One source with how it answered."""
    return row_from(SourceRow, row, trust=f"TUF root {read_root(bytes(row.root))}" if row.root else "")


class SourcesView(APIView):
    parser_classes = [JSONParser]

    @paged(SourceRow)
    def get(self, request: Request) -> Response:
        """Where catalogs come from, when each last answered and what failed."""
        return rows_of(request, [source_row(r) for r in Source.objects.order_by("pk")])

    @extend_schema(request=shape(NewSource), responses={201: shape(SourceRow)})
    def post(self, request: Request) -> Response:
        """Add a mirror by its https address, or a folder on this machine by its path. It is not asked yet."""
        asked = read(NewSource, request)
        row = add_source(asked.address, asked.proxy, asked.maker, asked.tuf_root)
        return Response(source_row(row), status=201)


class SourceView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Forget a source; what it brought stays."""
        get_object_or_404(Source, pk=pk).delete()
        tell("sources", id=pk)
        return Response(status=204)


class SourcesFetchView(APIView):
    @extend_schema(request=shape(SourcesFetch), responses={202: shape(WorkRow)})
    def post(self, request: Request) -> Response:
        """Look at sources, all or the named ones; the engine does it."""
        work = fetch_sources(read(SourcesFetch, request).sources)
        return Response(work_row(work), status=202)


class KeysView(APIView):
    @paged(KeyRow)
    def get(self, request: Request) -> Response:
        """The keys this house trusts to sign catalogs."""
        return rows_of(request, [row_from(KeyRow, key) for key in TrustedKey.objects.order_by("maker", "name")])

    @extend_schema(request=shape(NewKey), responses={201: shape(KeyRow)})
    def post(self, request: Request) -> Response:
        """Trust a key for a maker. From then on nothing of that maker comes in unsigned."""
        asked = read(NewKey, request)
        row = trust_key(asked.maker, asked.name, asked.key, request.user.get_username())
        return Response(row_from(KeyRow, row), status=201)


class KeyView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Trust a key no longer; what it signed stays, marked by its name."""
        get_object_or_404(TrustedKey, pk=pk).delete()
        tell("sources")
        return Response(status=204)
