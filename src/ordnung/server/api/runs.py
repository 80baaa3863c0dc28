"""Run sheets and runs: draft, start, hold, stop, follow, take back, record."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.orders import Meaning, Order
from ordnung.server.api.fleet_shapes import Names
from ordnung.server.api.paging import page_of, paged
from ordnung.server.house.windows import coming_openings
from ordnung.server.problems import Problem
from ordnung.server.runs.commands import discard_draft, start_run
from ordnung.server.runs.live import live_answer
from ordnung.server.runs.models import Run
from ordnung.server.runs.night import ForecastRow
from ordnung.server.runs.orders import Scope, give_order, mean_order
from ordnung.server.runs.outlook import outlook
from ordnung.server.runs.rows import EntryRow, RunRow, RunSummaryRow, entry_row, run_row, summary
from ordnung.server.runs.sheets import draft_sheet, narrow
from ordnung.server.runs.way_back import draft_way_back
from ordnung.server.shapes import limited, read, row_from, shape

RUNS_SHOWN, ENTRIES_SHOWN = 100, 300


@dataclass(frozen=True, slots=True, kw_only=True)
class TakeBack:
    """One update of a server, all of a server, of a wave, or of the run: the more is named, the less it is."""

    server: str = limited(default="", max_length=200, allow_blank=True)
    slot: str = limited(default="", max_length=200, allow_blank=True)
    wave: str = limited(default="", max_length=100, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class NewRun(Names):
    """``window`` names the house's window: it is laid into its present or next opening, or, if nobody fits into that
    any more, into the one after. Empty: whenever it is started.

    ``exposed``: only servers with a component that lacks the fix of an advisory; ``group``: only those of it.
    """

    name: str = limited(default="", max_length=200, allow_blank=True)
    window: str = limited(default="", max_length=100, allow_blank=True)
    group: str = limited(default="", max_length=200, allow_blank=True)
    exposed: bool = False


class RunsView(APIView):
    @paged(RunSummaryRow)
    def get(self, request: Request) -> Response:
        """All run sheets and runs, newest first, in pages."""
        return page_of(request, Run.objects.order_by("-pk"), summary, RUNS_SHOWN)

    @extend_schema(request=shape(NewRun), responses={201: shape(RunRow)})
    def post(self, request: Request) -> Response:
        """Plan a run for the chosen servers: the fewest resets for each, laid out under the limits."""
        asked = read(NewRun, request)
        openings = coming_openings(asked.window) if asked.window else ()
        names = narrow(asked.servers, asked.group, asked.exposed)
        run = draft_sheet(names, request.user.get_username(), asked.name, openings)
        return Response(run_row(run), status=201)


class RunView(APIView):
    @extend_schema(responses=shape(RunRow))
    def get(self, request: Request, pk: int) -> HttpResponse:
        """One run sheet or run."""
        run = get_object_or_404(Run, pk=pk)
        if run.state == Run.State.RUNNING:
            return live_answer(run).answer(request._request)
        return Response(run_row(run))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Throw a draft away. What was started stays on record."""
        discard_draft(get_object_or_404(Run, pk=pk))
        return Response(status=204)


class RunForecastView(APIView):
    @extend_schema(responses=shape(ForecastRow))
    def get(self, request: Request, pk: int) -> HttpResponse:
        """When a run will probably be over, what delays it most, and what it costs against updating one by one."""
        return outlook(get_object_or_404(Run, pk=pk)).answer(request._request)


class RunStartView(APIView):
    @extend_schema(request=None, responses={202: shape(RunRow)})
    def post(self, request: Request, pk: int) -> Response:
        """Start a run. Every payload must be packed, and no server may be in another run."""
        run = get_object_or_404(Run, pk=pk)
        start_run(run, request.user.get_username())
        return Response(run_row(run), status=202)


@dataclass(frozen=True, slots=True, kw_only=True)
class RunOrder:
    """An order, and whom it is for: a wave, a group, one server; none of them: the whole run.

    ``not_before``: of ``later``, the time before which nobody of them begins.
    """

    order: Order
    wave: str = limited(default="", max_length=100, allow_blank=True)
    group: str = limited(default="", max_length=200, allow_blank=True)
    server: str = limited(default="", max_length=200, allow_blank=True)
    not_before: datetime.datetime | None = None

    @property
    def scope(self) -> Scope:
        """Whom it is for."""
        return Scope(wave=self.wave, group=self.group, server=self.server)


@dataclass(frozen=True, slots=True, kw_only=True)
class MeaningRow(Meaning):
    """What an order will mean, in sentences: for whom, what becomes of each, and who can't be ordered that."""


ORDER_PARAMETERS = [
    OpenApiParameter("order", str, enum=[str(order) for order in Order], required=True),
    *(OpenApiParameter(name, str, required=False) for name in ("wave", "group", "server")),
    OpenApiParameter("not_before", OpenApiTypes.DATETIME, required=False),
]


class RunOrdersView(APIView):
    @extend_schema(parameters=ORDER_PARAMETERS, responses=shape(MeaningRow))
    def get(self, request: Request, pk: int) -> Response:
        """What an order would mean now. Nothing is changed."""
        asked = read(RunOrder, request.query_params.dict())
        meaning = mean_order(get_object_or_404(Run, pk=pk), asked.order, asked.scope, asked.not_before)
        return Response(row_from(MeaningRow, meaning))

    @extend_schema(request=shape(RunOrder), responses=shape(RunRow))
    def post(self, request: Request, pk: int) -> Response:
        """Hold, go on, stop, leave out or begin later. What is under way is always finished."""
        asked = read(RunOrder, request)
        give_order(get_object_or_404(Run, pk=pk), asked.order, asked.scope, asked.not_before)
        return Response(run_row(get_object_or_404(Run, pk=pk)))


class TakeBackView(APIView):
    @extend_schema(request=shape(TakeBack), responses={201: shape(RunRow)})
    def post(self, request: Request, pk: int) -> Response:
        """Plan the way back of what a run did: one update, one server, one wave, or all of it."""
        asked, run = read(TakeBack, request), get_object_or_404(Run, pk=pk)
        if asked.slot and not asked.server:
            raise Problem("format", "Say of which server.", field="server")
        chosen = {"server": asked.server, "slot": asked.slot, "wave": asked.wave}
        draft = draft_way_back(run, request.user.get_username(), **chosen)
        return Response(run_row(draft), status=201)


class TapeView(APIView):
    @paged(EntryRow, OpenApiParameter("server", str, required=False))
    def get(self, request: Request, pk: int) -> Response:
        """What was intended and what came of it, newest first; of one server or of all, in pages."""
        entries = get_object_or_404(Run, pk=pk).entries.order_by("-at", "-seq")
        if "server" in request.query_params:
            entries = entries.filter(server=request.query_params["server"])
        return page_of(request, entries, entry_row, ENTRIES_SHOWN)
