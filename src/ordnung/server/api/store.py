"""Where payloads come from, how fast, and the store they lie in."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from urllib.parse import quote

from django.conf import settings
from django.db import IntegrityError, transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.catalogs.commands import check_folder, check_mirror, check_proxy
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import FetchLimit, FetchPlace
from ordnung.server.repositories.payloads import open_store
from ordnung.server.repositories.uploads import forget_old_uploads
from ordnung.server.shapes import limited, read, row_from, shape
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for
from ordnung.server.work.rows import WorkRow, work_row


@dataclass(frozen=True, slots=True, kw_only=True)
class FetchPlaceRow:
    id: int
    base: str
    proxy: str
    added_by: str
    answered_at: datetime.datetime | None
    aside: str
    aside_at: datetime.datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class NewPlace:
    """An https address ending in a slash, or a folder of this machine; payloads lie below by their catalog's paths."""

    base: str = limited(max_length=500)
    proxy: str = limited(default="", max_length=500, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class FetchPlacesRow:
    places: list[FetchPlaceRow]
    bytes_per_s: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Limit:
    bytes_per_s: int = limited(min_value=0, max_value=100 * 10**9)


@dataclass(frozen=True, slots=True, kw_only=True)
class StoreRow:
    files: int
    bytes: int
    free: int
    loose_files: int
    loose_bytes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ClearedRow:
    files: int
    bytes: int


def places_row() -> FetchPlacesRow:
    """Everything about fetching."""
    limit = FetchLimit.objects.first()
    places = [row_from(FetchPlaceRow, place) for place in FetchPlace.objects.order_by("pk")]
    return FetchPlacesRow(places=places, bytes_per_s=limit.bytes_per_s if limit else 0)


class PlacesView(APIView):
    @extend_schema(responses=shape(FetchPlacesRow))
    def get(self, request: Request) -> Response:
        """Where payloads are fetched from, when each last answered, and which are put aside."""
        return Response(places_row())

    @extend_schema(request=shape(NewPlace), responses={201: shape(FetchPlacesRow)})
    def post(self, request: Request) -> Response:
        """Add a place to look for payloads when a catalog's own fails."""
        asked = read(NewPlace, request)
        base, proxy = asked.base, check_proxy(asked.proxy)
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
        return Response(places_row(), status=201)

    @extend_schema(request=shape(Limit), responses=shape(FetchPlacesRow))
    def put(self, request: Request) -> Response:
        """How many bytes a second fetching may take; 0 is no limit. It holds from the next packing on."""
        asked = read(Limit, request)
        FetchLimit.objects.update_or_create(pk=1, defaults={"bytes_per_s": asked.bytes_per_s})
        tell("repositories")
        return Response(places_row())


class PlaceView(APIView):
    @extend_schema(request=None, responses=shape(FetchPlacesRow), operation_id="fetch_places_trust")
    def post(self, request: Request, pk: int) -> Response:
        """Trust a place again that was put aside."""
        row = get_object_or_404(FetchPlace, pk=pk)
        FetchPlace.objects.filter(pk=row.pk).update(aside="", aside_at=None)
        tell("repositories")
        return Response(places_row())

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Look there no more; a catalog's own base comes back when it is asked again."""
        get_object_or_404(FetchPlace, pk=pk).delete()
        tell("repositories")
        return Response(status=204)


class StoreView(APIView):
    @extend_schema(responses=shape(StoreRow))
    def get(self, request: Request) -> Response:
        """What the content store holds, and what of it nobody needs."""
        store = open_store()
        sizes = {path.name: path.stat().st_size for path in store.folder.glob("??/*")}
        loose = set(sizes) - set(store.counts())
        body = StoreRow(
            files=len(sizes), bytes=sum(sizes.values()), free=store.room(),
            loose_files=len(loose), loose_bytes=sum(sizes[name] for name in loose),
        )  # fmt: skip
        return Response(body)

    @extend_schema(request=None, responses={202: shape(WorkRow)})
    def post(self, request: Request) -> Response:
        """Look over the store: hash everything, move out of use what is not what it is named for."""
        store = open_store()
        total = sum(path.stat().st_size for path in store.folder.glob("??/*"))
        work = ask_for("look-over", "Looking over the store", total, "bytes", {"store": str(settings.HOME)})
        return Response(work_row(work), status=202)


class StoreClearView(APIView):
    @extend_schema(request=None, responses=shape(ClearedRow))
    def post(self, request: Request) -> Response:
        """Throw away what no repository needs."""
        if Work.objects.open().filter(kind="run").exists():
            raise Problem("busy", "A run is under way; the store is cleared when it has ended.", status=409)
        forget_old_uploads()
        cleared = open_store().collect()
        tell("repositories")
        return Response(row_from(ClearedRow, cleared))
