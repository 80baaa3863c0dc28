"""The house's seal: who may sign, how many must, how that changes, and whose seals are accepted here."""

from __future__ import annotations

import datetime
from typing import Any

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.parsers import JSONParser, MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.repository import SealBook, Wish
from ordnung.repository.roots import SPELLING
from ordnung.server.api.repositories import SignatureFileSerializer, SignaturesDueSerializer, read_signed
from ordnung.server.audit.recording import record, recorded
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Repository, TrustedRoot
from ordnung.server.repositories.payloads import open_book
from ordnung.server.repositories.rows import SOON
from ordnung.server.shapes import StrictSerializer
from ordnung.server.work.events import tell

MOST_KEYS = 20


class KeyHolderSerializer(StrictSerializer):
    keyid = serializers.CharField()
    public = serializers.CharField()
    kept = serializers.BooleanField()


class StaffSerializer(StrictSerializer):
    threshold = serializers.IntegerField()
    holders = KeyHolderSerializer(many=True)


class SealStateSerializer(StrictSerializer):
    version = serializers.IntegerField()
    expires = serializers.DateTimeField()
    ends = serializers.CharField()
    root_key = serializers.CharField()
    root = StaffSerializer()
    targets = StaffSerializer()
    online = StaffSerializer()
    draft = SignaturesDueSerializer(many=True, allow_null=True)
    older = serializers.IntegerField()
    """Repositories that were sealed under an older root."""


class WishSerializer(StrictSerializer):
    """Keys are ids known already, public keys in hex, or ``new`` for one that Ordnung makes and keeps."""

    root = serializers.ListField(  # type: ignore[assignment]  # a field by that name, not the parent
        child=serializers.CharField(max_length=64), min_length=1, max_length=MOST_KEYS
    )
    root_threshold = serializers.IntegerField(min_value=1)
    targets = serializers.ListField(child=serializers.CharField(max_length=64), min_length=1, max_length=MOST_KEYS)
    targets_threshold = serializers.IntegerField(min_value=1)
    other_online = serializers.BooleanField(default=False)


class TrustedRootSerializer(StrictSerializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    keys = serializers.CharField()
    version = serializers.IntegerField()
    added_at = serializers.DateTimeField()
    added_by = serializers.CharField()


def seal_row(book: SealBook) -> dict[str, Any]:
    """The seal as the interface shows it."""
    signed = book.root.signed
    draft = book.draft
    left = signed.expires - now()
    return {
        "version": signed.version,
        "expires": signed.expires,
        "ends": "over" if left <= datetime.timedelta() else "soon" if left < SOON else "later",
        "root_key": ",".join(sorted(signed.roles["root"].keyids)),
        "root": {"threshold": signed.roles["root"].threshold, "holders": book.holders("root")},
        "targets": {"threshold": signed.roles["targets"].threshold, "holders": book.holders("targets")},
        "online": {"threshold": signed.roles["timestamp"].threshold, "holders": book.holders("timestamp")},
        "draft": book.signatures_due(draft) if draft is not None else None,
        "older": Repository.objects.filter(
            state="sealed", carried_from="", root_version__lt=signed.version
        ).count(),
    }  # fmt: skip


class SealView(APIView):
    parser_classes = [JSONParser]

    @extend_schema(responses=SealStateSerializer)
    def get(self, request) -> Response:
        """Who seals here, until when the root lasts, and what is being changed."""
        return Response(SealStateSerializer(seal_row(open_book())).data)

    @extend_schema(request=WishSerializer, responses=SealStateSerializer)
    def put(self, request) -> Response:
        """The next root: at once when the keys kept here are enough to sign it, else once the others have."""
        body = WishSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        asked = body.validated_data
        wish = Wish(**{**asked, "root": tuple(asked["root"]), "targets": tuple(asked["targets"])})
        book = open_book()
        record(before={"version": book.root.signed.version}, after=asked)
        with recorded(first=True):
            book.change(wish, now())
            tell("repositories")
        return Response(SealStateSerializer(seal_row(book)).data)


class SealDraftView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request) -> HttpResponse:
        """The next root, to be signed elsewhere."""
        draft = open_book().draft
        if draft is None:
            raise Problem("not-signing", "No change of the root waits for signatures.", status=404)
        return _download(draft.to_bytes(SPELLING), f"to-sign-{draft.signed.version}.root.json")

    @extend_schema(request={"multipart/form-data": SignatureFileSerializer}, responses=SealStateSerializer)
    def post(self, request) -> Response:
        """Bring signatures of the next root that were made elsewhere."""
        book = open_book()
        raw = read_signed(request)
        with recorded(first=True):
            book.add_signatures(raw)
            tell("repositories")
        return Response(SealStateSerializer(seal_row(book)).data)

    @extend_schema(responses={204: None})
    def delete(self, request) -> Response:
        """Leave the root as it is."""
        open_book().drop_draft()
        tell("repositories")
        return Response(status=204)


class SealRootView(APIView):
    @extend_schema(responses={(200, "application/json"): OpenApiTypes.OBJECT})
    def get(self, request) -> HttpResponse:
        """The first root, which a far end may trust before anything is carried there."""
        return _download(open_book().history()[0], "1.root.json")


def _download(raw: bytes, name: str) -> HttpResponse:
    answer = HttpResponse(raw, content_type="application/json")
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


class TrustedRootsView(APIView):
    @extend_schema(responses=TrustedRootSerializer(many=True))
    def get(self, request) -> Response:
        """Whose repositories are accepted here."""
        return Response(TrustedRootSerializer(TrustedRoot.objects.order_by("pk"), many=True).data)


class TrustedRootView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Accept no more repositories of these keys; what was carried in stays."""
        row = get_object_or_404(TrustedRoot, pk=pk)
        record(before={"name": row.name, "keys": row.keys})
        row.delete()
        tell("repositories")
        return Response(status=204)
