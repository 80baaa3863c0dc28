"""Run sheets and runs: draft, start, hold, stop, follow, take back, record."""

from __future__ import annotations

import dataclasses
from typing import Any

from django.conf import settings
from django.db import IntegrityError, transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.assessment import assess_fleet
from ordnung.engine.entries import Back, Read
from ordnung.engine.entry_codec import parse_rounds, read_entry
from ordnung.engine.telling import tell_entry
from ordnung.server.api.fleet_shapes import (
    CellSerializer,
    NamesSerializer,
    StrandedSerializer,
)
from ordnung.server.api.paging import page_of, paged
from ordnung.server.assessment.current import current_assessment
from ordnung.server.assessment.present import glyph_row
from ordnung.server.audit.recording import record
from ordnung.server.baselines.current import read_follows, read_rules
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.runs import sheets
from ordnung.server.runs.derived import load_acts, load_tape
from ordnung.server.runs.models import Run, RunServer, TapeEntry
from ordnung.server.runs.story import tell_steps
from ordnung.server.shapes import StrictSerializer
from ordnung.server.work.events import tell
from ordnung.server.work.orders import ask_for

RUNS_SHOWN, ENTRIES_SHOWN = 100, 300


class SpanSerializer(StrictSerializer):
    kind = serializers.CharField()
    start = serializers.FloatField()
    end = serializers.FloatField(allow_null=True)
    label = serializers.CharField(allow_blank=True)  # type: ignore[assignment]  # a field by that name, not the option


class SheetWriteSerializer(StrictSerializer):
    slot = serializers.CharField()
    product = serializers.CharField()
    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    to = serializers.CharField()
    sha256 = serializers.CharField(allow_blank=True)
    size = serializers.IntegerField()
    issue = serializers.CharField(allow_blank=True)
    identity = serializers.CharField(allow_blank=True)


class SheetRoundSerializer(StrictSerializer):
    writes = SheetWriteSerializer(many=True)
    reset = serializers.CharField(allow_null=True)


class OverrideRowSerializer(StrictSerializer):
    check = serializers.CharField()
    reason = serializers.CharField()


class RunServerSerializer(StrictSerializer):
    server = serializers.CharField()
    group = serializers.CharField(allow_blank=True)
    rounds = SheetRoundSerializer(many=True)
    stranded = StrandedSerializer(many=True)
    plan = SpanSerializer(many=True)
    happened = SpanSerializer(many=True)
    state = serializers.CharField()
    detail = serializers.CharField(allow_blank=True)
    stopping = serializers.CharField(allow_blank=True)
    overrides = OverrideRowSerializer(many=True)
    percent = serializers.IntegerField(allow_null=True)
    since = serializers.DateTimeField(allow_null=True)
    ended = serializers.CharField(allow_blank=True)
    reason = serializers.CharField(allow_blank=True)


class MissingSerializer(StrictSerializer):
    product = serializers.CharField()
    version = serializers.CharField()


class RunSummarySerializer(StrictSerializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    state = serializers.ChoiceField(choices=["draft", "running", "ended"])
    order = serializers.ChoiceField(choices=["go", "hold", "stop"])
    takes_back = serializers.IntegerField(allow_null=True)
    drafted_at = serializers.DateTimeField()
    drafted_by = serializers.CharField()
    started_at = serializers.DateTimeField(allow_null=True)
    started_by = serializers.CharField(allow_blank=True)
    ended_at = serializers.DateTimeField(allow_null=True)
    planned_seconds = serializers.FloatField()
    bound_seconds = serializers.FloatField()
    count = serializers.IntegerField()
    finished = serializers.IntegerField()
    failed = serializers.IntegerField()
    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    updates = serializers.IntegerField()
    outages = serializers.IntegerField()
    restarts = serializers.IntegerField()
    revision = serializers.IntegerField()


class RunSerializer(RunSummarySerializer):
    servers = RunServerSerializer(many=True)
    missing = MissingSerializer(many=True)


class DoneSerializer(StrictSerializer):
    slot = serializers.CharField()
    name = serializers.CharField()
    before = serializers.CharField(allow_null=True)
    after = serializers.CharField()
    back_to = serializers.CharField(allow_null=True)
    barred = serializers.CharField(allow_blank=True)


class RecordServerSerializer(StrictSerializer):
    server = serializers.CharField()
    ended = serializers.CharField(allow_blank=True)
    reason = serializers.CharField(allow_blank=True)
    before = CellSerializer(many=True)
    after = CellSerializer(many=True)
    done = DoneSerializer(many=True)
    resets = serializers.IntegerField()
    away_seconds = serializers.FloatField()
    differences = serializers.ListField(child=serializers.CharField())
    overrides = OverrideRowSerializer(many=True)


class RecordSerializer(RunSummarySerializer):
    servers = RecordServerSerializer(many=True)


class EntrySerializer(StrictSerializer):
    seq = serializers.IntegerField()
    server = serializers.CharField()
    at = serializers.DateTimeField()
    kind = serializers.CharField()
    text = serializers.CharField()


class TakeBackSerializer(StrictSerializer):
    server = serializers.CharField(max_length=200)
    slot = serializers.CharField(max_length=200)


class NewRunSerializer(NamesSerializer):
    name = serializers.CharField(max_length=200, required=False, default="", allow_blank=True)


def summary(run: Run, places: list[RunServer] | None = None) -> dict[str, Any]:
    """A run in one row."""
    places = list(run.servers.select_related("server")) if places is None else places
    rounds = [step for place in places for step in place.rounds]
    fields = (
        "id", "name", "revision", "state", "order", "drafted_at", "drafted_by", "started_at", "started_by", "ended_at",
        "planned_seconds", "bound_seconds", "source",
    )  # fmt: skip
    return {
        **{name: getattr(run, name) for name in fields},
        "takes_back": run.takes_back_id,
        "count": len(places),
        "finished": sum(bool(p.ended) for p in places),
        "failed": sum(p.ended == "failed" for p in places),
        "updates": sum(len(step["writes"]) for step in rounds),
        "outages": sum(step["reset"] in ("server reboot", "power cycle") for step in rounds),
        "restarts": sum(step["reset"] == "controller restart" for step in rounds),
    }


def planned_rows(place: RunServer) -> list[dict[str, Any]]:
    """The rounds of one server with what each write sends."""
    return [
        {
            "writes": [
                {
                    "slot": planned.write.slot,
                    "product": planned.write.product,
                    "source": planned.write.source,
                    "to": planned.write.to,
                    "sha256": planned.payload.sha256 if planned.payload else "",
                    "size": planned.payload.size if planned.payload else 0,
                    "issue": f"{planned.payload.maker} {planned.payload.issue}" if planned.payload else "",
                    "identity": place.identities.get(f"{planned.write.slot} {planned.write.to}", ""),
                }
                for planned in step.writes
            ],
            "reset": step.reset,
        }
        for step in parse_rounds(place.rounds)
    ]


def override_rows(place: RunServer) -> list[dict[str, str]]:
    """The checks that a person has overridden for a server, with their reasons."""
    return [{"check": check, "reason": reason} for check, reason in sorted(place.overrides.items())]


def run_row(run: Run) -> dict[str, Any]:
    """A run with its lanes, plan and what happened."""
    places = list(run.servers.select_related("server"))
    entries = load_acts(run) if run.started_at else {}
    return {
        **summary(run, places),
        "servers": [
            {
                "server": p.server.name,
                "group": p.group,
                "rounds": planned_rows(p),
                "stranded": p.stranded,
                "plan": p.lane,
                "happened": tell_steps(entries.get(p.server.name, []), run.started_at) if run.started_at else [],
                "state": p.state,
                "detail": p.detail,
                "stopping": p.stopping,
                "overrides": override_rows(p),
                "percent": p.percent,
                "since": p.since,
                "ended": p.ended,
                "reason": p.reason,
            }
            for p in places
        ],
        "missing": sheets.what_is_missing(run) if run.state == "draft" else [],
    }


class RunsView(APIView):
    @paged(RunSummarySerializer)
    def get(self, request) -> Response:
        """All run sheets and runs, newest first, in pages."""
        return page_of(request, Run.objects.order_by("-pk"), RunSummarySerializer, summary, RUNS_SHOWN)

    @extend_schema(request=NewRunSerializer, responses={201: RunSerializer})
    def post(self, request) -> Response:
        """Plan a run for the chosen servers: the fewest resets for each, laid out under the limits."""
        body = NewRunSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        names = body.validated_data.get("servers")
        run = sheets.draft_sheet(names, request.user.get_username(), body.validated_data["name"])
        return Response(RunSerializer(run_row(run)).data, status=201)


class RunView(APIView):
    @extend_schema(responses=RunSerializer)
    def get(self, request, pk: int) -> Response:
        """One run sheet or run."""
        return Response(RunSerializer(run_row(get_object_or_404(Run, pk=pk))).data)

    @extend_schema(responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Throw a draft away. What was started stays on record."""
        run = get_object_or_404(Run, pk=pk)
        if run.state != "draft":
            raise Problem("not-a-draft", f"{run.name} was started; it stays on record.", status=409)
        record(before={"name": run.name, "drafted_by": run.drafted_by})
        run.delete()
        tell("runs", id=pk)
        return Response(status=204)


class RunStartView(APIView):
    @extend_schema(request=None, responses={202: RunSerializer})
    def post(self, request, pk: int) -> Response:
        """Start a run. Every payload must be packed, and no server may be in another run."""
        run = get_object_or_404(Run, pk=pk)
        missing = sheets.what_is_missing(run)
        if missing:
            first = missing[0]
            more = f" and {len(missing) - 1} more" if len(missing) > 1 else ""
            message = (
                f"{first['product']} {first['version']}{more} is not packed. Pack a repository for these servers first."
            )
            raise Problem("not-packed", message, status=409)
        person = request.user.get_username()
        if "runs" in settings.TWO_PEOPLE and run.drafted_by == person:
            message = f"You drafted {run.name}; this house wants another person to start it."
            raise Problem("second-person", message, status=403)
        try:
            with transaction.atomic():
                changed = Run.objects.filter(pk=pk, state="draft").update(
                    state="running", started_at=now(), started_by=person
                )
                if not changed:
                    raise Problem("not-a-draft", f"{run.name} was started already.", status=409)
                run.servers.update(active=True)
                ask_for("run", run.name, run.servers.count(), "servers", {"run": pk})
        except IntegrityError:
            raise Problem(
                "server-busy", "One of these servers is in another run. Wait for it to end.", status=409
            ) from None
        names = list(run.servers.values_list("server__name", flat=True))
        record(on={"servers": names}, after={"name": run.name, "servers": len(names), "drafted_by": run.drafted_by})
        tell("runs", id=pk)
        run.refresh_from_db()
        return Response(RunSerializer(run_row(run)).data, status=202)


class RunOrderView(APIView):
    @extend_schema(request=None, responses=RunSerializer)
    def post(self, request, pk: int, order: str) -> Response:
        """Hold before the next write or reset, go on, or stop. What is under way is always finished."""
        before = Run.objects.filter(pk=pk).values_list("order", flat=True).first()
        record(before={"order": before}, after={"order": order})
        if not Run.objects.filter(pk=pk, state="running").exclude(order="stop").update(order=order):
            raise Problem("not-running", "This run is not under way.", status=409)
        tell("runs", id=pk)
        return Response(RunSerializer(run_row(get_object_or_404(Run, pk=pk))).data)


class TakeBackView(APIView):
    @extend_schema(request=TakeBackSerializer, responses={201: RunSerializer})
    def post(self, request, pk: int) -> Response:
        """Plan the way back of one update of a run."""
        body = TakeBackSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        run = get_object_or_404(Run, pk=pk)
        values = body.validated_data
        draft = sheets.draft_way_back(run, values["server"], values["slot"], request.user.get_username())
        return Response(RunSerializer(run_row(draft)).data, status=201)


class TapeView(APIView):
    @paged(EntrySerializer, OpenApiParameter("server", str, required=False))
    def get(self, request, pk: int) -> Response:
        """What was intended and what came of it, newest first; of one server or of all, in pages."""
        run = get_object_or_404(Run, pk=pk)
        entries = run.entries.order_by("-at", "-seq")
        if "server" in request.query_params:
            entries = entries.filter(server=request.query_params["server"])
        return page_of(request, entries, EntrySerializer, _entry_row, ENTRIES_SHOWN)


def _entry_row(row: TapeEntry) -> dict[str, Any]:
    text = tell_entry(read_entry(row.seq, row.at, row.version, row.kind, row.body).value)
    return {"seq": row.seq, "server": row.server, "at": row.at, "kind": row.kind, "text": text}


class RecordView(APIView):
    @extend_schema(responses=RecordSerializer)
    def get(self, request, pk: int) -> Response:
        """Before and after of every server of a run, what was done, and what can be taken back."""
        run = get_object_or_404(Run, pk=pk)
        places = list(run.servers.select_related("server"))
        body = {**summary(run, places), "servers": [_record(run, place) for place in places]}
        return Response(RecordSerializer(body).data)


def _record(run: Run, place: RunServer) -> dict[str, Any]:
    name = place.server.name
    entries = load_tape(run.pk, name)
    reads = [entry.value.server for entry in entries if isinstance(entry.value, Read)]
    values = [dataclasses.replace(server, group=place.group or None) for server in reads[:1] + reads[-1:]]
    assessment = current_assessment()
    catalogs = assessment.catalogs.following(read_follows(run.follows))
    standings = assess_fleet(values, catalogs, read_rules(run.rules), now().date())
    spans = tell_steps(entries, run.started_at) if run.started_at else []
    away = [s for s in spans if s["kind"] in ("server reboot", "power cycle") and s["end"] is not None]
    resets = [entry for entry in entries if isinstance(entry.value, Back)]
    return {
        "server": name,
        "ended": place.ended,
        "reason": place.reason,
        "before": glyph_row(standings[0]) if standings else [],
        "after": glyph_row(standings[-1]) if standings else [],
        "done": _done(run, name, values[0] if values else None),
        "resets": len(resets),
        "away_seconds": sum(s["end"] - s["start"] for s in away),
        "differences": [place.reason] if place.ended == "failed" else [],
        "overrides": override_rows(place),
    }


def _done(run: Run, name: str, before) -> list[dict[str, Any]]:
    standing = current_assessment().standings.get(name)
    order = sheets.done_in_order(run, name)
    rows = []
    for slot, version in dict(order).items():
        old = before.component(slot) if before else None
        back = None
        barred = ""
        now_at = standing.server.component(slot) if standing else None
        if standing is not None and now_at is not None and old is not None:
            back = sheets.way_back_version(standing, slot, old.version, [v for s, v in order if s == slot])
            if back is None:
                barred = "a floor version bars everything older"
            elif now_at.version != version:
                back, barred = None, f"it is at {now_at.version} now"
        rows.append(
            {
                "slot": slot,
                "name": now_at.name if now_at else slot,
                "before": old.version if old else None,
                "after": version,
                "back_to": back,
                "barred": barred,
            }
        )
    return rows
