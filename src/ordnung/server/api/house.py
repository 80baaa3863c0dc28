"""What the house has decided for every run: its zone, limits, windows, who approves."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.api.paging import paged, rows_of
from ordnung.server.house.hooks import (
    HookChange,
    HookRow,
    NewHookRow,
    add_hook,
    change_hook,
    drop_hook,
    hook_rows,
    try_hook,
)
from ordnung.server.house.models import Hook, MaintenanceWindow
from ordnung.server.house.settings import HouseChange, HouseRow, change_house, house_row
from ordnung.server.house.windows import (
    OpeningRow,
    WindowChange,
    WindowRow,
    add_window,
    change_window,
    drop_window,
    open_between,
    opening_row,
    window_rows,
)
from ordnung.server.shapes import read, shape

SINCE = OpenApiParameter("since", OpenApiTypes.DATETIME, required=True)
UNTIL = OpenApiParameter("until", OpenApiTypes.DATETIME, required=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class OpeningsAsked:
    since: datetime.datetime
    until: datetime.datetime


class HouseView(APIView):
    @extend_schema(responses=shape(HouseRow))
    def get(self, request: Request) -> Response:
        """The house's settings."""
        return Response(house_row())

    @extend_schema(request=shape(HouseChange), responses=shape(HouseRow))
    def put(self, request: Request) -> Response:
        """Decide the house's settings."""
        change_house(read(HouseChange, request))
        return Response(house_row())


class HooksView(APIView):
    @paged(HookRow)
    def get(self, request: Request) -> Response:
        """The hooks by which the house's own tools are asked, each with how it last answered."""
        return rows_of(request, hook_rows())

    @extend_schema(request=shape(HookChange), responses={201: shape(NewHookRow)})
    def post(self, request: Request) -> Response:
        """Keep a hook. Its secret is given out this once."""
        return Response(add_hook(read(HookChange, request)), status=201)


class HookView(APIView):
    @extend_schema(request=shape(HookChange), responses=shape(HookRow))
    def put(self, request: Request, pk: int) -> Response:
        """Change where a hook is, or whether it is called for help."""
        return Response(change_hook(get_object_or_404(Hook, pk=pk), read(HookChange, request)))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Forget a hook that moves no group's work."""
        drop_hook(get_object_or_404(Hook, pk=pk))
        return Response(status=204)


class HookTryView(APIView):
    @extend_schema(request=None, responses=shape(HookRow))
    def post(self, request: Request, pk: int) -> Response:
        """Ask a hook whether it is there."""
        return Response(try_hook(get_object_or_404(Hook, pk=pk)))


class WindowsView(APIView):
    @paged(WindowRow)
    def get(self, request: Request) -> Response:
        """All maintenance windows, each with its next opening."""
        return rows_of(request, window_rows())

    @extend_schema(request=shape(WindowChange), responses={201: shape(WindowRow)})
    def post(self, request: Request) -> Response:
        """Keep a window."""
        return Response(add_window(read(WindowChange, request)), status=201)


class MaintenanceWindowView(APIView):
    @extend_schema(request=shape(WindowChange), responses=shape(WindowRow))
    def put(self, request: Request, pk: int) -> Response:
        """Change a window; sheets that were laid into it keep their times."""
        return Response(change_window(get_object_or_404(MaintenanceWindow, pk=pk), read(WindowChange, request)))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Forget a window."""
        drop_window(get_object_or_404(MaintenanceWindow, pk=pk))
        return Response(status=204)


class OpeningsView(APIView):
    @paged(OpeningRow, SINCE, UNTIL)
    def get(self, request: Request) -> Response:
        """When windows are open between two instants."""
        query = request.query_params
        asked = read(OpeningsAsked, {name: query[name] for name in ("since", "until") if name in query})
        return rows_of(request, [opening_row(found) for found in open_between(asked.since, asked.until)])
