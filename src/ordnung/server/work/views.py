"""Work under way, the event stream, and the facts of the frame."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from pathlib import Path

from django.conf import settings
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.clock import now
from ordnung.server.house import snapshot
from ordnung.server.repositories.models import Repository
from ordnung.server.repositories.rows import SOON
from ordnung.server.runs.models import Run
from ordnung.server.work.events import tell
from ordnung.server.work.hub import HUB
from ordnung.server.work.models import Work
from ordnung.server.work.serializers import WorkSerializer

SHOWN = 20
PING_S = 15


class WorkListView(APIView):
    @extend_schema(responses=WorkSerializer(many=True))
    def get(self, request) -> Response:
        """The latest work: what is under way, failures nobody has seen, then the rest."""
        rows = sorted(
            Work.objects.order_by("-pk")[:SHOWN],
            key=lambda w: (w.state in ("running", "asked"), w.state == "failed" and not w.seen, w.pk),
            reverse=True,
        )
        return Response(WorkSerializer(rows, many=True).data)


class WorkSeenView(APIView):
    @extend_schema(request=None, responses={204: None})
    def post(self, request, pk: int) -> Response:
        """A person has seen how this ended."""
        work = get_object_or_404(Work, pk=pk)
        work.seen = True
        work.save(update_fields=["seen"])
        tell("work", id=pk)
        return Response(status=204)


class SiteSerializer(serializers.Serializer):
    now = serializers.DateTimeField()
    rate = serializers.FloatField()
    servers = serializers.IntegerField()
    components = serializers.IntegerField()
    off = serializers.IntegerField()
    exposed = serializers.IntegerField()
    exposed_servers = serializers.IntegerField()
    baseline = serializers.CharField()
    sealed = serializers.IntegerField()
    ending = serializers.IntegerField()
    drafts = serializers.IntegerField()
    running = serializers.IntegerField()
    runs = serializers.IntegerField()
    trouble = serializers.CharField(allow_blank=True)


class SiteView(APIView):
    @extend_schema(responses=SiteSerializer)
    def get(self, request) -> Response:
        """The clock and the one live fact of each place."""
        house = snapshot()
        issued = CatalogIssue.objects.order_by("-issued").values_list("issued", flat=True).first()
        body = {
            "now": now(),
            "rate": settings.CLOCK.rate,
            "servers": len(house.standings),
            **house.tally,
            "baseline": f"{issued:%b %Y}, r{house.baseline.number}" if issued else "",
            "sealed": Repository.objects.filter(state="sealed").count(),
            "ending": Repository.objects.filter(state="sealed", carried_from="", expires__lt=now() + SOON).count(),
            "drafts": Run.objects.filter(state="draft").count(),
            "running": Run.objects.filter(state="running").count(),
            "runs": Run.objects.filter(state="ended").count(),
            "trouble": engine_trouble(),
        }
        return Response(SiteSerializer(body).data)


def engine_trouble() -> str:
    """What is wrong with the engine process, in words; empty while it works or nobody watches it."""
    try:
        told = Path(settings.ENGINE_TROUBLE).read_text().strip() if settings.ENGINE_TROUBLE else ""
    except OSError:
        return ""
    return f"{told} Nothing is lost: runs go on from their tapes." if told else ""


async def events(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    """Server-sent events with resume: the browser sends the last id it has seen."""
    if not (await request.auser()).is_authenticated:
        return HttpResponse(status=401)
    last = request.headers.get("Last-Event-ID") or request.GET.get("after", "")
    stream = _stream(int(last) if last.isascii() and last.isdigit() and len(last) < 19 else None)
    headers = {"Cache-Control": "no-cache, no-transform", "X-Accel-Buffering": "no"}
    return StreamingHttpResponse(stream, content_type="text/event-stream", headers=headers)


async def _stream(last: int | None) -> AsyncIterator[str]:
    yield "retry: 1000\n\n"
    async with HUB.subscribe() as queue:
        for event in await HUB.since(last):
            last = event[0]
            yield _spell(event)
        while not HUB.stopped.is_set():
            try:
                async with asyncio.timeout(PING_S):
                    told = await queue.get()
            except TimeoutError:
                yield ": still here\n\n"
                continue
            if told is None:
                return
            if last is None or told[0] > last:
                last = told[0]
                yield _spell(told)


def _spell(event: tuple[int, str, dict]) -> str:
    number, topic, body = event
    return f"id: {number}\nevent: change\ndata: {json.dumps({'topic': topic, **body})}\n\n"
