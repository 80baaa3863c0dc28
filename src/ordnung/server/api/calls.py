"""What needs a person, over all runs."""

from __future__ import annotations

from dataclasses import dataclass

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.api.paging import paged, rows_of
from ordnung.server.runs.calls import CALLS, CallRow, see_call
from ordnung.server.shapes import limited, read, shape


@dataclass(frozen=True, slots=True, kw_only=True)
class SeenCall:
    """``call`` is the id of a call as it was given out."""

    call: str = limited(max_length=400)


class CallsView(APIView):
    @paged(CallRow)
    def get(self, request: Request) -> Response:
        """Everything that needs a person now, by where it is, and after it what will at servers still to come."""
        return rows_of(request, CALLS.get())

    @extend_schema(request=shape(SeenCall), responses={204: None})
    def post(self, request: Request) -> Response:
        """Say that a call was seen. It stays until it is over, but is not repeated."""
        see_call(read(SeenCall, request).call, request.user.get_username())
        return Response(status=204)
