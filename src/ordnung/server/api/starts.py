"""Where a server's next start goes, once (N4.8)."""

from __future__ import annotations

from dataclasses import dataclass

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.fleet.commands import find_server
from ordnung.server.runs.next_start import ask_for_start
from ordnung.server.shapes import limited, read, shape
from ordnung.server.work.rows import WorkRow, work_row


@dataclass(frozen=True, slots=True, kw_only=True)
class NextStart:
    """``slot``: the service partition that it shall start from."""

    slot: str = limited(max_length=200)


class NextStartView(APIView):
    @extend_schema(request=shape(NextStart), responses={202: shape(WorkRow)})
    def post(self, request: Request, name: str) -> Response:
        """Send a server's next start, once, to a service partition of its own. Nothing is reset."""
        return Response(work_row(ask_for_start(find_server(name), read(NextStart, request).slot)), status=202)

    @extend_schema(request=None, responses={202: shape(WorkRow)})
    def delete(self, request: Request, name: str) -> Response:
        """Take back that its next start goes to a service partition."""
        return Response(work_row(ask_for_start(find_server(name), None)), status=202)
