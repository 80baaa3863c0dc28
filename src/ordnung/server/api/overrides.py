"""What a person decides about one server of a run, or did for it: overrides (night.md C), answers, ticks (P3)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.runs.commands import answer_question, drop_overrides, override_check
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.rows import RunRow, run_row
from ordnung.server.runs.ticks import tick
from ordnung.server.shapes import limited, read, shape


@dataclass(frozen=True, slots=True, kw_only=True)
class Override:
    check: str = limited(max_length=40)
    reason: str = limited(max_length=500)


class OverrideView(APIView):
    @extend_schema(request=shape(Override), responses=shape(RunRow))
    def post(self, request: Request, pk: int, name: str) -> Response:
        """Override the check that is expected to stop a server. It is read again before anything is sent; only this
        check then warns instead of stopping.
        """
        asked = read(Override, request)
        override_check(find_place(pk, name), asked.check, asked.reason, request.user.get_username())
        return Response(run_row(Run.objects.get(pk=pk)))

    @extend_schema(request=None, responses=shape(RunRow))
    def delete(self, request: Request, pk: int, name: str) -> Response:
        """Take back every override of a server."""
        drop_overrides(find_place(pk, name), request.user.get_username())
        return Response(run_row(Run.objects.get(pk=pk)))


@dataclass(frozen=True, slots=True, kw_only=True)
class QuestionAnswer:
    """``force``: restart it by force; ``try``: try the remedy; ``leave``: leave it as it is, to whoever answers."""

    answer: Literal["force", "leave", "try"]


class AnswerView(APIView):
    @extend_schema(request=shape(QuestionAnswer), responses=shape(RunRow))
    def post(self, request: Request, pk: int, name: str) -> Response:
        """Answer what a server of a run waits with."""
        answer_question(find_place(pk, name), read(QuestionAnswer, request).answer, request.user.get_username())
        return Response(run_row(Run.objects.get(pk=pk)))


@dataclass(frozen=True, slots=True, kw_only=True)
class Tick:
    """``key`` names the very thing that was done, as it was given out."""

    key: str = limited(max_length=300)
    note: str = limited(max_length=500, allow_blank=True, default="")


class TickView(APIView):
    @extend_schema(request=shape(Tick), responses=shape(RunRow))
    def post(self, request: Request, pk: int, name: str) -> Response:
        """Say that what a server waits for outside is done: at the server, or its work moved off or taken back."""
        asked = read(Tick, request)
        tick(find_place(pk, name), asked.key, request.user.get_username(), asked.note)
        return Response(run_row(Run.objects.get(pk=pk)))


def find_place(run: int, name: str) -> RunServer:
    return get_object_or_404(RunServer.objects.select_related("run", "server"), run_id=run, server__name=name)
