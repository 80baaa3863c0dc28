"""Work under way, the event stream, and the facts of the frame."""

from __future__ import annotations

import asyncio
import contextlib
import datetime
import time
from collections.abc import AsyncIterator, Iterable
from dataclasses import dataclass
from pathlib import Path

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db.models import Case, QuerySet, When
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.formats.text import whole_number
from ordnung.server.api.paging import page_of, paged
from ordnung.server.assessment.current import current_assessment
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.clock import now
from ordnung.server.house.windows import OpeningRow, next_opening, opening_row
from ordnung.server.people.sessions import is_open
from ordnung.server.repositories.models import Repository
from ordnung.server.repositories.rows import SOON
from ordnung.server.rights.rights import Right, rights_of
from ordnung.server.room import room_trouble
from ordnung.server.runs.models import Run
from ordnung.server.shapes import shape
from ordnung.server.work.events import tell
from ordnung.server.work.hub import HUB, Spelled, spell
from ordnung.server.work.models import UNDER_WAY, Work
from ordnung.server.work.rows import WorkRow, work_row

SHOWN = 20
PING_S = 15
"""So often a stream is looked at: whether its person may still look, and, where nothing is told, that it is there."""
BEGUN = "begun"
"""A stream is up: after the events that were missed, and the last of each answer that was given to others."""


class WorkListView(APIView):
    @paged(WorkRow)
    def get(self, request: Request) -> Response:
        """Work: what is under way, failures nobody has seen, then the rest, the latest first, in pages."""
        return page_of(request, works_by_urgency(), work_row, SHOWN)


def works_by_urgency() -> QuerySet[Work]:
    """All work, in the order in which it is shown."""
    urgency = Case(When(state__in=UNDER_WAY, then=0), When(state=Work.State.FAILED, seen=False, then=1), default=2)
    return Work.objects.annotate(urgency=urgency).order_by("urgency", "-pk")


class WorkSeenView(APIView):
    @extend_schema(request=None, responses={204: None})
    def post(self, request: Request, pk: int) -> Response:
        """A person has seen how this ended."""
        work = get_object_or_404(Work, pk=pk)
        work.seen = True
        work.save(update_fields=["seen"])
        tell("work", id=pk)
        return Response(status=204)


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteRow:
    now: datetime.datetime
    rate: float
    servers: int
    components: int
    off: int
    exposed: int
    exposed_servers: int
    baseline: str
    sealed: int
    ending: int
    drafts: int
    running: int
    runs: int
    window: OpeningRow | None
    """The maintenance window that is open, or the next one."""
    trouble: str
    watching: int
    """How many pages are open: what all of them ask anew they spread over two hundredths of a second for each."""


class SiteView(APIView):
    @extend_schema(responses=shape(SiteRow))
    def get(self, request: Request) -> Response:
        """The clock and the one live fact of each place."""
        return Response(site_row())


def site_row() -> SiteRow:
    """The clock and the one live fact of each place, as of now."""
    assessment = current_assessment()
    issued = CatalogIssue.objects.order_by("-issued").values_list("issued", flat=True).first()
    return SiteRow(
        now=now(),
        rate=settings.CLOCK.rate,
        servers=len(assessment.standings),
        **assessment.tally,
        baseline=f"{issued:%b %Y}, r{assessment.baseline.number}" if issued else "",
        sealed=Repository.objects.sealed().count(),
        ending=Repository.objects.sealed_here().filter(expires__lt=now() + SOON).count(),
        drafts=Run.objects.filter(state=Run.State.DRAFT).count(),
        running=Run.objects.filter(state=Run.State.RUNNING).count(),
        runs=Run.objects.filter(state=Run.State.ENDED).count(),
        window=opening_row(opening) if (opening := next_opening()) is not None else None,
        trouble=site_trouble(),
        watching=len(HUB.queues),
    )


def site_trouble() -> str:
    """What is wrong with the site itself, in words; empty while nothing is."""
    return " ".join(filter(None, (room_trouble(), engine_trouble())))


def engine_trouble() -> str:
    """What is wrong with the engine process, in words; empty while it works or nobody watches it."""
    try:
        text = Path(settings.ENGINE_TROUBLE).read_text().strip() if settings.ENGINE_TROUBLE else ""
    except OSError:
        return ""
    return f"{text} Nothing is lost: runs go on from their tapes." if text else ""


async def events(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    """Server-sent events with resume: the browser sends the last id it has seen."""
    if request.method != "GET":
        return HttpResponse(status=405, headers={"Allow": "GET"})
    user = await request.auser()
    if not user.is_authenticated:
        return HttpResponse(status=401)
    if Right.LOOK not in await sync_to_async(rights_of)(user):
        return HttpResponse(status=403)
    last = request.headers.get("Last-Event-ID") or request.GET.get("after", "")
    stream = _stream(whole_number(last), request)
    headers = {"Cache-Control": "no-cache, no-transform", "X-Accel-Buffering": "no"}
    return StreamingHttpResponse(stream, content_type="text/event-stream", headers=headers)


events.is_stream = True  # type: ignore[attr-defined]


async def _stream(last: int | None, request: HttpRequest) -> AsyncIterator[bytes]:
    yield b"retry: 1000\n\n"
    session = request.session.session_key or ""
    async with HUB.subscribe(session) as queue:
        for event in (missed := await HUB.since(last)):
            last = event[0]
            yield spell(event)[2]
        given = HUB.giver.last() if HUB.giver is not None else []
        begun = {"missed": last if missed else None, "given": [key for _, key, _ in given]}
        yield _join(map(spell, (*given, (None, BEGUN, begun))))
        looked = time.monotonic()
        while not HUB.stopped.is_set():
            messages: list[Spelled | None] = []
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(PING_S):
                    messages.append(await queue.get())
            if time.monotonic() - looked >= PING_S:  # however much there is to tell
                if not await sync_to_async(is_open)(session):
                    return
                looked = time.monotonic()
            if not messages:
                yield b": still here\n\n"
                continue
            while not queue.empty():  # what comes together is sent together
                messages.append(queue.get_nowait())
            told = [m for m in messages if m is not None and (m[0] is None or last is None or m[0] > last)]
            last = max((m[0] for m in told if m[0] is not None), default=last)
            if told:
                yield _join(told)
            if None in messages:
                return


def _join(messages: Iterable[Spelled]) -> bytes:
    return b"".join(text for _, _, text in messages)
