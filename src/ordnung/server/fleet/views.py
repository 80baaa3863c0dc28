"""Servers: list, look, read again, trust, credentials, add."""

from __future__ import annotations

from typing import Any

from django.db import IntegrityError, transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.controllers import CAUSES
from ordnung.core.drift import OFF_BASELINE, Verdict
from ordnung.core.house import Standing
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.serializers import (
    CredentialsSerializer,
    NamesSerializer,
    NewServerSerializer,
    ServerDetailSerializer,
    ServerSerializer,
    TrustSerializer,
)
from ordnung.server.house import snapshot
from ordnung.server.present import component_row, glyph_row, resets_text, round_rows, signature_text
from ordnung.server.problems import Problem
from ordnung.server.runs.models import RunServer
from ordnung.server.work.events import tell
from ordnung.server.work.orders import ask_for
from ordnung.server.work.serializers import WorkSerializer


def server_row(row: Server, standing: Standing, running: int | None) -> dict[str, Any]:
    """One server as the list gives it."""
    verdicts = [drift.verdict for drift in standing.drift]
    return {
        "name": row.name,
        "model": standing.server.model,
        "serial": standing.server.serial,
        "room": row.room,
        "rack": row.rack,
        "unit": row.unit,
        "height": row.height,
        "role": row.role,
        "group": row.group.name if row.group else None,
        "may_be_away": row.group.may_be_away if row.group else None,
        "read_at": row.latest.read_at if row.latest else None,
        "failure": failure_row(row),
        "cells": glyph_row(standing),
        "signature": signature_text(standing),
        "resets": resets_text(standing.route),
        "outages": standing.route.outages,
        "off": sum(verdict in OFF_BASELINE for verdict in verdicts),
        "exposed": verdicts.count(Verdict.EXPOSED),
        "components": len(verdicts),
        "running": running,
    }


def failure_row(row: Server) -> dict[str, str] | None:
    """Why the last look failed, if it did."""
    if row.cause is None:
        return None
    return {"server": row.name, "cause": row.cause, "detail": row.detail, "remedy": CAUSES.get(row.cause, "")}


def running_runs() -> dict[int, int]:
    """The run each busy server is in, by server."""
    return dict(RunServer.objects.filter(active=True).values_list("server_id", "run_id"))


class ServersView(APIView):
    @extend_schema(responses=ServerSerializer(many=True), operation_id="servers_list")
    def get(self, request) -> Response:
        """Every server with its glyph row, by name."""
        house, running = snapshot(), running_runs()
        rows = [server_row(r, house.standings[r.name], running.get(r.pk)) for r in house.servers]
        return Response(ServerSerializer(rows, many=True).data)

    @extend_schema(request=NewServerSerializer, responses={201: ServerSerializer})
    def post(self, request) -> Response:
        """Add one server by address. It is read when asked for; its certificate must be the fleet's."""
        body = NewServerSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        values = dict(body.validated_data)
        password = values.pop("password")
        row = Server(**values)
        row.set_password(password)
        try:
            with transaction.atomic():
                row.save()
        except IntegrityError:
            raise Problem("name-taken", f"There is a server {row.name} already.", field="name") from None
        tell("readings", servers=[row.name])
        return Response(ServerSerializer(server_row(row, snapshot().standings[row.name], None)).data, status=201)


class ServerView(APIView):
    @extend_schema(responses=ServerDetailSerializer)
    def get(self, request, name: str) -> Response:
        """One server with every component, its route and what it costs."""
        house = snapshot()
        row = next((r for r in house.servers if r.name == name), None)
        if row is None:
            raise Problem("not-found", f"There is no server {name}.", status=404)
        standing = house.standings[name]
        route = standing.route
        proof = f"fewest resets, proven: no route with less than {route.bound_outages} outages can exist"
        if not route.proven:
            proof = f"best found; at least {route.bound_outages} outages are needed"
        body = {
            **server_row(row, standing, running_runs().get(row.pk)),
            "url": row.url,
            "user": row.user,
            "pin": row.pin,
            "seen_pin": row.seen_pin,
            "parts": [component_row(standing, place) for place in range(len(standing.positions))],
            "rounds": round_rows(route),
            "stranded": [{"slot": s.slot, "reason": s.reason} for s in route.stranded],
            "proof": proof if route.rounds else "",
            "readings": row.readings.count(),
        }
        return Response(ServerDetailSerializer(body).data)


class CredentialsView(APIView):
    @extend_schema(request=CredentialsSerializer, responses={204: None})
    def post(self, request, name: str) -> Response:
        """Replace the credentials of one server. They are never shown again."""
        body = CredentialsSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        row = get_object_or_404(Server, name=name)
        row.user = body.validated_data["user"]
        row.set_password(body.validated_data["password"])
        row.save(update_fields=["user", "sealed_password"])
        return Response(status=204)


class TrustView(APIView):
    @extend_schema(request=TrustSerializer, responses={204: None})
    def post(self, request, name: str) -> Response:
        """Accept the new certificate of a server, by the fingerprint that was shown."""
        body = TrustSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        row = get_object_or_404(Server, name=name)
        if body.validated_data["pin"] != row.seen_pin:
            raise Problem("fingerprint-differs", f"{name} showed another fingerprint since. Look again.", field="pin")
        row.pin, row.seen_pin, row.cause, row.detail = row.seen_pin, None, None, ""
        row.save(update_fields=["pin", "seen_pin", "cause", "detail"])
        tell("readings", servers=[name])
        return Response(status=204)


class SurveysView(APIView):
    @extend_schema(request=NamesSerializer, responses={202: WorkSerializer})
    def post(self, request) -> Response:
        """Read servers; answers at once with the work, which the engine carries out."""
        body = NamesSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        known = list(Server.objects.order_by("name").values_list("name", flat=True))
        names = body.validated_data.get("servers") or known
        lost = sorted(set(names) - set(known))
        if lost:
            raise Problem("not-found", f"There is no server {lost[0]}.", field="servers")
        if not names:
            raise Problem("nothing-to-read", "There is no server yet. Add one first.", field="servers")
        what = "all servers" if len(names) == len(known) else names[0] if len(names) == 1 else f"{len(names)} servers"
        work = ask_for("survey", f"Reading {what}", len(names), "servers", {"servers": names})
        return Response(WorkSerializer(work).data, status=202)
