"""The whole floor in columns: small enough that ten thousand servers are drawn from one answer."""

from __future__ import annotations

import datetime
import json
import threading
from dataclasses import dataclass
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.utils.http import parse_etags
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.views import APIView

from ordnung.core.assessment import Standing
from ordnung.core.drift import OFF_BASELINE, Drift, Verdict
from ordnung.core.facts import find_hindrances
from ordnung.core.reach import best_way
from ordnung.server.assessment.current import Assessment, current_assessment
from ordnung.server.assessment.present import FIXED, LETTERS, worst
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server
from ordnung.server.runs.models import RunServer
from ordnung.server.shapes import shape

CODES = {verdict.word: chr(ord("a") + place) for place, verdict in enumerate(Verdict)}
"""One letter a verdict: a cell is its letter and how many releases it is behind, 9 at most."""


@dataclass(frozen=True, slots=True, kw_only=True)
class FloorRow:
    """Columns: the n-th entry of each is the n-th server's."""

    revision: int
    now: datetime.datetime
    verdicts: dict[str, str]
    name: list[str]
    model: list[str]
    serial: list[str]
    room: list[str]
    rack: list[str]
    unit: list[int]
    height: list[int]
    group: list[str]
    cells: list[str]
    others: list[str]
    off: list[int]
    exposed: list[int]
    score: list[float]
    components: list[int]
    outages: list[int]
    cycles: list[int]
    restarts: list[int]
    read: list[int]
    health: list[str]
    reach: list[str]
    hindrances: list[str]
    failure: list[str]
    lost: list[int]
    running: list[int]


def spell_cells(standing: Standing) -> tuple[str, str]:
    """The fixed six cells, two characters each, and the letters of other kinds with theirs (three each)."""
    by_kind: dict[str, list[Drift]] = {}
    for position, drift in zip(standing.positions, standing.drift, strict=True):
        by_kind.setdefault(position.component.kind, []).append(drift)
    fixed = "".join(_cell(by_kind.get(kind, [])) for kind in FIXED)
    others = "".join(LETTERS[kind] + _cell(by_kind[kind]) for kind in sorted(by_kind.keys() - set(FIXED)))
    return fixed, others


def _cell(drifts: list[Drift]) -> str:
    verdict = worst([drift.verdict for drift in drifts]) if drifts else Verdict.UNREAD
    return CODES[verdict.word] + str(min(9, max((d.behind or 0 for d in drifts), default=0)))


def health_word(row: Server, standing: Standing) -> str:
    """ok, warning, critical or unknown: the worst of what the server says and of what it has lost."""
    facts = standing.server.facts
    word = {"OK": "ok", "Warning": "warning", "Critical": "critical"}.get((facts.health if facts else None) or "")
    if row.lost:
        return "critical"
    return word or "unknown"


def floor_columns(assessment: Assessment, running: dict[int, int], moment: datetime.datetime) -> dict[str, Any]:
    """The answer's columns. A server that is as it was in the last answer of the day is not spelled again."""
    fresh: dict[str, Spelled] = {}
    for name, row in assessment.rows.items():
        standing, busy, known = assessment.standings[name], running.get(row.pk, 0), _spelled.get(name)
        state = (row, standing, busy, moment.date())
        if known is None or known[0][0] is not row or known[0][1] is not standing or known[0][2:] != state[2:]:
            known = (state, _values(name, row, standing, busy, moment))
        fresh[name] = known
    _spelled.clear()
    _spelled.update(fresh)
    rows = [values for _, values in fresh.values()]
    columns = (
        dict(zip(_COLUMNS, map(list, zip(*rows, strict=True)), strict=True)) if rows else {n: [] for n in _COLUMNS}
    )
    return {"revision": assessment.event, "now": moment, "verdicts": {v: k for k, v in CODES.items()}, **columns}


Spelled = tuple[tuple[Server, Standing, int, datetime.date], tuple[Any, ...]]
_spelled: dict[str, Spelled] = {}


_COLUMNS = (
    "name", "model", "serial", "room", "rack", "unit", "height", "group", "cells", "others", "off", "exposed",
    "score", "components", "outages", "cycles", "restarts", "read", "health", "reach", "hindrances", "failure",
    "lost", "running",
)  # fmt: skip


def _values(name: str, row: Server, standing: Standing, busy: int, moment: datetime.datetime) -> tuple[Any, ...]:
    server, route, drifts = standing.server, standing.route, standing.drift
    fixed, others = spell_cells(standing)
    hindrances = ", ".join(h.what for h in find_hindrances(server, moment))
    return (
        name, server.model, server.serial or "", row.room, row.rack, row.unit, row.height, server.group or "",
        fixed, others,
        sum(d.verdict in OFF_BASELINE for d in drifts),
        sum(d.verdict is Verdict.EXPOSED for d in drifts),
        max((d.score for d in drifts if d.score is not None and d.verdict is Verdict.EXPOSED), default=0.0),
        len(drifts), route.outages, route.power_cycles, route.restarts,
        int(server.read_at.timestamp()) if server.read_at else 0,
        health_word(row, standing),
        best_way(server.facts, row.probes),
        hindrances, row.cause or "", len(row.lost), busy,
    )  # fmt: skip


_lock = threading.Lock()
_last: tuple[Assessment, bytes] | None = None


class FloorView(APIView):
    @extend_schema(
        responses=shape(FloorRow), parameters=[OpenApiParameter("If-None-Match", str, OpenApiParameter.HEADER)]
    )
    def get(self, request: HttpRequest) -> HttpResponse:
        """Every server in columns; answered from memory until something changes."""
        global _last
        assessment = current_assessment()
        tag = f'"{assessment.event}-{len(assessment.rows)}"'
        if tag in (known.removeprefix("W/") for known in parse_etags(request.headers.get("If-None-Match", ""))):
            return HttpResponse(status=304, headers={"ETag": tag})
        with _lock:
            if _last is None or _last[0] is not assessment:
                running = dict(RunServer.objects.filter(active=True).values_list("server_id", "run_id"))
                body = floor_columns(assessment, running, now())
                body["now"] = body["now"].isoformat()
                _last = (assessment, json.dumps(body, separators=(",", ":"), ensure_ascii=False).encode())
            raw = _last[1]
        return HttpResponse(raw, content_type="application/json", headers={"ETag": tag, "Cache-Control": "no-cache"})
