"""The house's seal: who may sign, how many must, how that changes, and whose seals are accepted here."""

from __future__ import annotations

import datetime
from dataclasses import asdict, dataclass

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.parsers import JSONParser, MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.repository import SealBook, Wish
from ordnung.repository.roots import SPELLING
from ordnung.server.api.paging import paged, rows_of
from ordnung.server.api.repositories import SignatureFile, SignaturesDueRow, read_signed
from ordnung.server.audit.recording import record, recorded
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Repository, TrustedRoot
from ordnung.server.repositories.payloads import open_book
from ordnung.server.repositories.rows import ends
from ordnung.server.shapes import limited, read, row_from, shape
from ordnung.server.work.events import tell

MOST_KEYS = 20


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyHolderRow:
    keyid: str
    public: str
    kept: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class StaffRow:
    threshold: int
    holders: list[KeyHolderRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class SealStateRow:
    version: int
    expires: datetime.datetime
    ends: str
    root_key: str
    root: StaffRow
    targets: StaffRow
    online: StaffRow
    draft: list[SignaturesDueRow] | None
    older: int


@dataclass(frozen=True, slots=True, kw_only=True)
class NextRoot:
    """Keys are ids known already, public keys in hex, or ``new`` for one that Ordnung makes and keeps."""

    root: list[str] = limited(min_length=1, max_length=MOST_KEYS, child_kwargs={"max_length": 64})
    root_threshold: int = limited(min_value=1)
    targets: list[str] = limited(min_length=1, max_length=MOST_KEYS, child_kwargs={"max_length": 64})
    targets_threshold: int = limited(min_value=1)
    other_online: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class TrustedRootRow:
    id: int
    name: str
    keys: str
    version: int
    added_at: datetime.datetime
    added_by: str


def seal_row(book: SealBook) -> SealStateRow:
    """The seal as the interface shows it."""
    signed = book.root.signed
    draft = book.draft
    older = Repository.objects.sealed_here().filter(root_version__lt=signed.version)
    due = book.signatures_due(draft) if draft is not None else None
    return SealStateRow(
        version=signed.version,
        expires=signed.expires,
        ends=ends(signed.expires),
        root_key=",".join(sorted(signed.roles["root"].keyids)),
        root=_staff_row(book, "root"),
        targets=_staff_row(book, "targets"),
        online=_staff_row(book, "timestamp"),
        draft=[row_from(SignaturesDueRow, one) for one in due] if due is not None else None,
        older=older.count(),
    )


def _staff_row(book: SealBook, role: str) -> StaffRow:
    holders = [row_from(KeyHolderRow, holder) for holder in book.holders(role)]
    return StaffRow(threshold=book.root.signed.roles[role].threshold, holders=holders)


class SealView(APIView):
    parser_classes = [JSONParser]

    @extend_schema(responses=shape(SealStateRow))
    def get(self, request: Request) -> Response:
        """Who seals here, until when the root lasts, and what is being changed."""
        return Response(seal_row(open_book()))

    @extend_schema(request=shape(NextRoot), responses=shape(SealStateRow))
    def put(self, request: Request) -> Response:
        """The next root: at once when the keys kept here are enough to sign it, else once the others have."""
        asked = read(NextRoot, request)
        wish = row_from(Wish, asked, root=tuple(asked.root), targets=tuple(asked.targets))
        book = open_book()
        record(before={"version": book.root.signed.version}, after=asdict(asked))
        with recorded(first=True):
            book.change(wish, now())
            tell("repositories")
        return Response(seal_row(book))


class SealDraftView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request: Request) -> HttpResponse:
        """The next root, to be signed elsewhere."""
        draft = open_book().draft
        if draft is None:
            raise Problem("not-signing", "No change of the root waits for signatures.", status=404)
        return _download(draft.to_bytes(SPELLING), f"to-sign-{draft.signed.version}.root.json")

    @extend_schema(request={"multipart/form-data": shape(SignatureFile)}, responses=shape(SealStateRow))
    def post(self, request: Request) -> Response:
        """Bring signatures of the next root that were made elsewhere."""
        book = open_book()
        raw = read_signed(request)
        with recorded(first=True):
            book.add_signatures(raw)
            tell("repositories")
        return Response(seal_row(book))

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        """Leave the root as it is."""
        open_book().drop_draft()
        tell("repositories")
        return Response(status=204)


class SealRootView(APIView):
    @extend_schema(responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request: Request) -> HttpResponse:
        """The first root, which a far end may trust before anything is carried there."""
        return _download(open_book().history()[0], "1.root.json")


def _download(raw: bytes, name: str) -> HttpResponse:
    answer = HttpResponse(raw, content_type="application/json")
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


class TrustedRootsView(APIView):
    @paged(TrustedRootRow)
    def get(self, request: Request) -> Response:
        """Whose repositories are accepted here."""
        return rows_of(request, [row_from(TrustedRootRow, root) for root in TrustedRoot.objects.order_by("pk")])


class TrustedRootView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Accept no more repositories of these keys; what was carried in stays."""
        row = get_object_or_404(TrustedRoot, pk=pk)
        record(before={"name": row.name, "keys": row.keys})
        row.delete()
        tell("repositories")
        return Response(status=204)
