"""Questions across repositories: what changed, what one lacks today, which hold a way back, who reaches it."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Literal

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.packing import Trim, kept
from ordnung.core.reach import best_way
from ordnung.formats.text import whole_number
from ordnung.server.api.paging import page_of, paged
from ordnung.server.assessment.current import current_assessment
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Line, PayloadFetch, Repository
from ordnung.server.repositories.plans import make_plan
from ordnung.server.repositories.rows import LineRow, packed_rows
from ordnung.server.shapes import row_from, shape

FETCHES_SHOWN = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class PayloadChangeRow:
    change: Literal["added", "dropped", "other bytes"]
    name: str
    version: str
    size: int


@dataclass(frozen=True, slots=True, kw_only=True)
class RepositoriesComparedRow:
    one: str
    other: str
    changes: list[PayloadChangeRow]
    same: int
    added_bytes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class StaleRow:
    """What a repository lacks for its servers as they are today, by the baseline of today."""

    servers: list[str]
    unknown: list[str]
    lines: list[LineRow]
    not_needed: int
    revision: int


@dataclass(frozen=True, slots=True, kw_only=True)
class WayGroupRow:
    way: str
    words: str
    good: bool
    servers: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class FetchRow:
    run: int
    server: str
    name: str
    version: str
    protocol: str
    address: str
    bytes: int
    whole: bool
    at: datetime.datetime


class CompareView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("one", int, required=True), OpenApiParameter("other", int, required=True)],
        responses=shape(RepositoriesComparedRow), operation_id="repositories_compare",
    )  # fmt: skip
    def get(self, request: Request) -> Response:
        """What ``other`` has and ``one`` has not, and the other way round."""
        one, other = (_find(request.query_params.get(key, "")) for key in ("one", "other"))
        left, right = (_contents(row) for row in (one, other))
        changes = [_change("added", right[key]) for key in right.keys() - left.keys()]
        changes += [_change("dropped", left[key]) for key in left.keys() - right.keys()]
        both = left.keys() & right.keys()
        differing = [key for key in both if left[key].sha256 != right[key].sha256]
        changes += [_change("other bytes", right[key]) for key in differing]
        body = RepositoriesComparedRow(
            one=f"{one.name}, edition {one.edition}",
            other=f"{other.name}, edition {other.edition}",
            changes=sorted(changes, key=lambda c: (c.name, c.version, c.change)),
            same=len(both) - len(differing),
            added_bytes=sum(c.size for c in changes if c.change != "dropped"),
        )
        return Response(body)


def _find(text: str) -> Repository:
    number = whole_number(text)
    if number is None:
        raise Problem("invalid", "Two repositories are compared by their numbers.", field="one")
    return get_object_or_404(Repository, pk=number)


def _contents(row: Repository) -> dict[tuple[str, str], Line]:
    return {(line.product, line.version): line for line in row.lines.all()}


def _change(what: Literal["added", "dropped", "other bytes"], line: Line) -> PayloadChangeRow:
    return row_from(PayloadChangeRow, line, change=what)


class StaleView(APIView):
    @extend_schema(responses=shape(StaleRow))
    def get(self, request: Request, pk: int) -> Response:
        """What a repository lacks for its servers today; its own trims stay out."""
        row = get_object_or_404(Repository, pk=pk)
        here = current_assessment().standings
        names = [name for name in row.servers if name in here]
        plan = make_plan(names, [Trim(by=t["by"], value=t["value"]) for t in row.trims]) if names else None
        held = set(row.lines.values_list("sha256", flat=True))
        needed = [line for line in kept(plan.lines) if line.release.payload] if plan else []
        lacking = [line for line in needed if line.release.payload and line.release.payload.sha256 not in held]
        sums = {line.release.payload.sha256 for line in needed if line.release.payload}
        body = StaleRow(
            servers=sorted({name for line in lacking for name in line.servers}),
            unknown=[name for name in row.servers if name not in here],
            lines=packed_rows(lacking),
            not_needed=len(held - sums),
            revision=current_assessment().baseline.number,
        )
        return Response(body)


WAYS = {
    "https": ("fetches it over HTTPS", True),
    "push": ("gets it pushed", True),
    "http": ("fetches it over plain HTTP", True),
    "own": ("takes only its own release until that is updated", True),
    "clock": ("its clock is wrong: by it our certificate is not valid, so nothing was fetched", False),
    "none": ("can neither fetch it nor be pushed to", False),
    "unknown": ("not read yet", False),
}
"""Ways by which a payload gets to a controller, in words."""


class ReachView(APIView):
    @extend_schema(responses=shape(WayGroupRow)(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """How each of a repository's servers gets it, by what was read and what its controller was seen to reach."""
        row = get_object_or_404(Repository, pk=pk)
        assessment = current_assessment()
        groups: dict[str, list[str]] = {}
        for name in row.servers:
            standing, known = assessment.standings.get(name), assessment.rows.get(name)
            facts = standing.server.facts if standing else None
            way = best_way(facts, known.probes if known else {})
            if facts and facts.clock_off_s is not None and abs(facts.clock_off_s) > 86400 and "HTTPS" in facts.pulls:
                way = "clock" if way in ("none", "http") else way
            groups.setdefault(way, []).append(name)
        rows = [
            WayGroupRow(way=way, words=words, good=good, servers=groups[way])
            for way, (words, good) in WAYS.items()
            if way in groups
        ]
        return Response(rows)


class FetchesView(APIView):
    @paged(FetchRow)
    def get(self, request: Request, pk: int) -> Response:
        """Which controllers fetched what of a repository, the latest first, in pages."""
        row = get_object_or_404(Repository, pk=pk)
        names = {line.sha256: line for line in row.lines.all()}
        found = PayloadFetch.objects.filter(sha256__in=names).order_by("-pk")

        def tell(fetch: PayloadFetch) -> FetchRow:
            line = names[fetch.sha256]
            return row_from(FetchRow, fetch, name=line.name, version=line.version)

        return page_of(request, found, tell, FETCHES_SHOWN)
