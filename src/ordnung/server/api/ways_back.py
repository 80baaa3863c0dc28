"""To what a component can go back, what that takes, and laying it out (N7.1, N7.4)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.way_back import RollbackOption, list_ways_back
from ordnung.engine.compare import find_position
from ordnung.server.api.paging import paged, rows_of
from ordnung.server.assessment.current import current_assessment
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Line, Repository
from ordnung.server.runs.models import Run
from ordnung.server.runs.reversals import Reversal, list_reversals
from ordnung.server.runs.rows import RunRow, run_row
from ordnung.server.runs.way_back import FLOOR, cost_of_back, draft_back
from ordnung.server.shapes import limited, read, row_from, shape


@dataclass(frozen=True, slots=True, kw_only=True)
class HolderRow:
    id: int
    name: str
    edition: int


@dataclass(frozen=True, slots=True, kw_only=True)
class RollbackOptionRow:
    """One older version: ``bank`` where the component's other bank holds it, ``switches`` where it is started from
    there instead of being written; ``barred`` says why it can't go back to it.
    """

    version: str
    bank: bool
    switches: bool
    repositories: list[HolderRow]
    stored: bool
    barred: str
    seconds: float
    resets: str
    outage: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class RollbackOptionsRow:
    server: str
    slot: str
    name: str
    installed: str | None
    ways: list[RollbackOptionRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class ReversalRow:
    """What an update of a sheet could be taken back to once it is done: from ``before`` nearest to ``to``. ``stored``:
    its payload is at hand; ``barred`` says why there is no way back.
    """

    slot: str
    name: str
    before: str
    to: str
    repositories: list[HolderRow]
    stored: bool
    barred: str
    seconds: float
    resets: str
    outage: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class GoBack:
    """``to``: the older version that the component shall have."""

    server: str = limited(max_length=200)
    slot: str = limited(max_length=200)
    to: str = limited(max_length=500)


class WaysBackView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("server", str, required=True), OpenApiParameter("slot", str, required=True)],
        responses=shape(RollbackOptionsRow),
    )  # fmt: skip
    def get(self, request: Request) -> Response:
        """To which versions a component can go back, where each is held, and what it takes."""
        server, slot = (request.query_params.get(key, "") for key in ("server", "slot"))
        standing = current_assessment().standings.get(server)
        found = find_position(standing.positions, slot) if standing else None
        if standing is None or found is None:
            raise Problem("not-found", f"There is no component {slot} in {server}.", status=404, field="slot")
        ways = list_ways_back(found)
        holders = _holders(ways)
        rows = []
        for way in ways:
            if not way.in_bank and way.sha256 not in holders:
                continue
            cost = cost_of_back(standing, slot, way.version)
            rows.append(
                row_from(
                    RollbackOptionRow, cost, version=way.version, bank=way.in_bank, switches=cost.by_bank,
                    stored=way.sha256 in holders, repositories=holders.get(way.sha256, []),
                    barred=way.barred or cost.barred,
                )
            )  # fmt: skip
        name = found.product.name if found.product else found.component.name
        installed = found.component.version
        return Response(RollbackOptionsRow(server=server, slot=slot, name=name, installed=installed, ways=rows))

    @extend_schema(request=shape(GoBack), responses={201: shape(RunRow)})
    def post(self, request: Request) -> Response:
        """Lay out a sheet that takes one component back. Nothing is touched until it is started."""
        asked = read(GoBack, request)
        run = draft_back(asked.server, asked.slot, asked.to, request.user.get_username())
        return Response(run_row(run), status=201)


class ReversalsView(APIView):
    @paged(ReversalRow)
    def get(self, request: Request, pk: int, name: str) -> Response:
        """What each update of a server on a sheet can be taken back to afterwards, and what that would take."""
        place = get_object_or_404(Run, pk=pk).servers.select_related("server").filter(server__name=name).first()
        if place is None:
            raise Problem("not-on-sheet", f"{name[:200]} is not on this sheet.", status=404)
        reversals = list_reversals(place)
        holders = _holders(reversals)
        return rows_of(request, [_reversal_row(found, holders.get(found.sha256, [])) for found in reversals])


def _reversal_row(found: Reversal, holders: list[HolderRow]) -> ReversalRow:
    cost = found.cost
    return ReversalRow(
        slot=found.slot,
        name=found.name,
        before=found.before,
        to=found.to,
        repositories=holders,
        stored=bool(holders),
        barred=cost.barred if cost is not None else FLOOR,
        seconds=cost.seconds if cost is not None else 0.0,
        resets=cost.resets if cost is not None else "",
        outage=cost is not None and cost.outage,
    )


def _holders(ways: Iterable[RollbackOption | Reversal]) -> dict[str, list[HolderRow]]:
    """By checksum, the sealed repositories here that hold it, the newest first."""
    found: dict[str, list[HolderRow]] = {}
    sums = {way.sha256 for way in ways if way.sha256}
    lines = Line.objects.packed().filter(sha256__in=sums, repository__in=Repository.objects.sealed())
    for line in lines.select_related("repository").order_by("-repository_id"):
        found.setdefault(line.sha256, []).append(row_from(HolderRow, line.repository))
    return found
