"""Where payloads come from, how fast, and the store they lie in."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from django.conf import settings
from django.db import IntegrityError, transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.api.catalogs import check_folder, check_mirror, check_proxy
from ordnung.server.api.work_shapes import WorkSerializer
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import FetchLimit, FetchPlace
from ordnung.server.repositories.payloads import open_store
from ordnung.server.repositories.uploads import forget_old_uploads
from ordnung.server.shapes import StrictSerializer
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for


class FetchPlaceSerializer(StrictSerializer):
    id = serializers.IntegerField()
    base = serializers.CharField()
    proxy = serializers.CharField(allow_blank=True)
    added_by = serializers.CharField()
    answered_at = serializers.DateTimeField(allow_null=True)
    aside = serializers.CharField(allow_blank=True)
    aside_at = serializers.DateTimeField(allow_null=True)


class NewPlaceSerializer(StrictSerializer):
    """An https address ending in a slash, or a folder of this machine; payloads lie below by their catalog's paths."""

    base = serializers.CharField(max_length=500)
    proxy = serializers.CharField(max_length=500, required=False, default="", allow_blank=True)


class PlacesSerializer(StrictSerializer):
    places = FetchPlaceSerializer(many=True)
    bytes_per_s = serializers.IntegerField()


class LimitSerializer(StrictSerializer):
    bytes_per_s = serializers.IntegerField(min_value=0, max_value=100 * 10**9)


class StoreSerializer(StrictSerializer):
    files = serializers.IntegerField()
    bytes = serializers.IntegerField()
    free = serializers.IntegerField()
    loose_files = serializers.IntegerField()
    loose_bytes = serializers.IntegerField()


class ClearedSerializer(StrictSerializer):
    files = serializers.IntegerField()
    bytes = serializers.IntegerField()


def places_row() -> dict[str, Any]:
    """Everything about fetching."""
    limit = FetchLimit.objects.first()
    return {"places": list(FetchPlace.objects.order_by("pk")), "bytes_per_s": limit.bytes_per_s if limit else 0}


class PlacesView(APIView):
    @extend_schema(responses=PlacesSerializer)
    def get(self, request) -> Response:
        """Where payloads are fetched from, when each last answered, and which are put aside."""
        return Response(PlacesSerializer(places_row()).data)

    @extend_schema(request=NewPlaceSerializer, responses={201: PlacesSerializer})
    def post(self, request) -> Response:
        """Add a place to look for payloads when a catalog's own fails."""
        body = NewPlaceSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        base, proxy = body.validated_data["base"], check_proxy(body.validated_data["proxy"])
        if base.startswith("/"):
            base = f"file://{quote(check_folder(base))}/"
        else:
            base = check_mirror(base.rstrip("/") + "/", True)
        try:
            with transaction.atomic():
                FetchPlace.objects.create(base=base, proxy=proxy, added_at=now(), added_by=request.user.username)
        except IntegrityError:
            raise Problem("known", f"{base} is a place already.", status=409, field="base") from None
        tell("repositories")
        return Response(PlacesSerializer(places_row()).data, status=201)

    @extend_schema(request=LimitSerializer, responses=PlacesSerializer)
    def put(self, request) -> Response:
        """How many bytes a second fetching may take; 0 is no limit. It holds from the next packing on."""
        body = LimitSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        FetchLimit.objects.update_or_create(pk=1, defaults=body.validated_data)
        tell("repositories")
        return Response(PlacesSerializer(places_row()).data)


class PlaceView(APIView):
    @extend_schema(request=None, responses=PlacesSerializer, operation_id="fetch_places_trust")
    def post(self, request, pk: int) -> Response:
        """Trust a place again that was put aside."""
        row = get_object_or_404(FetchPlace, pk=pk)
        FetchPlace.objects.filter(pk=row.pk).update(aside="", aside_at=None)
        tell("repositories")
        return Response(PlacesSerializer(places_row()).data)

    @extend_schema(responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Look there no more; a catalog's own base comes back when it is asked again."""
        get_object_or_404(FetchPlace, pk=pk).delete()
        tell("repositories")
        return Response(status=204)


class StoreView(APIView):
    @extend_schema(responses=StoreSerializer)
    def get(self, request) -> Response:
        """What the content store holds, and what of it nobody needs."""
        store = open_store()
        sizes = {path.name: path.stat().st_size for path in store.folder.glob("??/*")}
        loose = set(sizes) - set(store.counts())
        body = {
            "files": len(sizes), "bytes": sum(sizes.values()), "free": store.room(),
            "loose_files": len(loose), "loose_bytes": sum(sizes[name] for name in loose),
        }  # fmt: skip
        return Response(StoreSerializer(body).data)

    @extend_schema(request=None, responses={202: WorkSerializer})
    def post(self, request) -> Response:
        """Look over the store: hash everything, move out of use what is not what it is named for."""
        store = open_store()
        total = sum(path.stat().st_size for path in store.folder.glob("??/*"))
        work = ask_for("look-over", "Looking over the store", total, "bytes", {"store": str(settings.HOME)})
        return Response(WorkSerializer(work).data, status=202)


class StoreClearView(APIView):
    @extend_schema(request=None, responses=ClearedSerializer)
    def post(self, request) -> Response:
        """Throw away what no repository needs."""
        if Work.objects.filter(state__in=("asked", "running"), kind="run").exists():
            raise Problem("busy", "A run is under way; the store is cleared when it has ended.", status=409)
        forget_old_uploads()
        cleared = open_store().collect()
        tell("repositories")
        return Response(ClearedSerializer(cleared).data)
