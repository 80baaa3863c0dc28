"""Selections of many servers by a short name, for addresses that are reloaded and passed on."""

from __future__ import annotations

from dataclasses import dataclass

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.fleet.selections import find_selection, keep_selection
from ordnung.server.shapes import limited, read, shape

MOST = 50_000
SERVERS = OpenApiParameter("servers", str, description="Names between commas, or @ and a selection's short name.")


@dataclass(frozen=True, slots=True, kw_only=True)
class SelectionRow:
    servers: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class NewSelection:
    servers: list[str] = limited(min_length=1, max_length=MOST, child_kwargs={"max_length": 200})


class SelectionView(APIView):
    @extend_schema(responses=shape(SelectionRow))
    def get(self, request: Request, name: str) -> Response:
        """The servers of a selection."""
        return Response(SelectionRow(servers=find_selection(name)))

    @extend_schema(request=shape(NewSelection), responses=shape(SelectionRow))
    def put(self, request: Request, name: str) -> Response:
        """Keep a selection by a short name of the caller's own making: what is kept by it is never changed."""
        servers = read(NewSelection, request).servers
        keep_selection(name, servers)
        return Response(SelectionRow(servers=servers))
