"""Overriding a check on a draft: a person answers for it with a reason, which stays with the run (night.md C)."""

from __future__ import annotations

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.api.runs import RunSerializer, run_row
from ordnung.server.assessment.current import current_assessment
from ordnung.server.audit.recording import record
from ordnung.server.problems import Problem
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.sheets import expected_stop
from ordnung.server.shapes import StrictSerializer
from ordnung.server.work.events import tell


class OverrideSerializer(StrictSerializer):
    check = serializers.CharField(max_length=40)
    reason = serializers.CharField(max_length=500)


class OverrideView(APIView):
    @extend_schema(request=OverrideSerializer, responses=RunSerializer)
    def post(self, request, pk: int, name: str) -> Response:
        """Override the check that is expected to stop a server. It is read again before anything is sent; only this
        check then warns instead of stopping.
        """
        body = OverrideSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        check, reason = body.validated_data["check"], body.validated_data["reason"]
        with transaction.atomic():
            place = _place_of_draft(pk, name)
            if not check or check != place.stopping:
                raise Problem("not-expected", f"Nothing that may be overridden as {check} is expected to stop {name}.")
            record(on={"server": name}, after={"check": check, "reason": reason})
            place.overrides = {**place.overrides, check: f"{reason} ({request.user.get_username()})"}
            return _settled(place)

    @extend_schema(request=None, responses=RunSerializer)
    def delete(self, request, pk: int, name: str) -> Response:
        """Take back every override of a server."""
        with transaction.atomic():
            place = _place_of_draft(pk, name)
            place.overrides = {}
            return _settled(place)


def _place_of_draft(run: int, name: str) -> RunServer:
    place = get_object_or_404(RunServer.objects.select_related("run", "server"), run_id=run, server__name=name)
    if place.run.state != "draft":
        raise Problem("not-a-draft", f"{place.run.name} was started; checks are overridden on a draft.", status=409)
    return place


def _settled(place: RunServer) -> Response:
    standing = current_assessment().standings.get(place.server.name)
    if standing is None:
        raise Problem("not-read", f"{place.server.name} has no reading. Read it again first.", status=409)
    place.detail, place.stopping = expected_stop(standing, place.overrides)
    place.save(update_fields=["overrides", "detail", "stopping"])
    tell("runs", id=place.run_id)
    return Response(RunSerializer(run_row(Run.objects.get(pk=place.run_id))).data)
