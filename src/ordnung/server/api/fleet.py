"""Servers: list, look, change, read again, trust, credentials, reach."""

from __future__ import annotations

from collections.abc import Mapping

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.assessment import Standing
from ordnung.core.drift import OFF_BASELINE, Verdict
from ordnung.core.facts import find_hindrances
from ordnung.core.reach import tell_reach
from ordnung.server.api.fleet_shapes import (
    Credentials,
    HindranceRow,
    ManyCredentials,
    ManyTrust,
    NewServer,
    OtherBoard,
    ReachWayRow,
    ServerChange,
    ServerDetailRow,
    ServerPageRow,
    ServerRow,
    Trust,
    Whom,
)
from ordnung.server.api.selections import SERVERS
from ordnung.server.assessment.current import Assessment, current_assessment
from ordnung.server.assessment.present import (
    StrandedRow,
    component_row,
    glyph_row,
    resets_text,
    round_rows,
    signature_text,
)
from ordnung.server.clock import now
from ordnung.server.fleet.commands import (
    accept_certificates,
    accept_other_board,
    add_server,
    change_server,
    find_server,
    keep_credentials,
    remove_server,
)
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import first_seen
from ordnung.server.fleet.rows import failure_row
from ordnung.server.fleet.selections import chosen_names
from ordnung.server.problems import Problem
from ordnung.server.runs.models import RunServer
from ordnung.server.shapes import asked_number, read, read_given, row_from, shape
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for
from ordnung.server.work.rows import WorkRow, work_row


def server_row(row: Server, standing: Standing, running: int | None) -> ServerRow:
    """One server as the list gives it."""
    verdicts = [drift.verdict for drift in standing.drift]
    return row_from(
        ServerRow,
        row,
        model=standing.server.model,
        serial=standing.server.serial,
        group=row.group.name if row.group else None,
        may_be_away=row.group.may_be_away if row.group else None,
        read_at=row.latest.read_at if row.latest else None,
        failure=failure_row(row),
        cells=glyph_row(standing),
        signature=signature_text(standing),
        resets=resets_text(standing.route),
        outages=standing.route.outages,
        off=sum(verdict in OFF_BASELINE for verdict in verdicts),
        exposed=verdicts.count(Verdict.EXPOSED),
        components=len(verdicts),
        running=running,
        lost=len(row.lost),
    )


def running_runs() -> dict[int, int]:
    """The run each busy server is in, by server."""
    return dict(RunServer.objects.filter(active=True).values_list("server_id", "run_id"))


PAGE, MOST = 100, 1000
SORTS = ("name", "-off", "-exposed", "-outages", "read_at")


class ServersView(APIView):
    @extend_schema(
        responses=shape(ServerPageRow),
        operation_id="servers_list",
        parameters=[
            OpenApiParameter("limit", int, description=f"At most {MOST}, by default {PAGE}."),
            OpenApiParameter("offset", int),
            OpenApiParameter("search", str, description="Part of a name, serial, model, rack, group or tag."),
            SERVERS,
            OpenApiParameter("sort", str, enum=SORTS),
        ],
    )
    def get(self, request: Request) -> Response:
        """Servers with their glyph rows, a page at a time."""
        assessment, running = current_assessment(), running_runs()
        asked = request.query_params
        names = _sorted(_filtered(list(assessment.rows), assessment, asked), assessment, asked.get("sort", "name"))
        limit, offset = min(MOST, max(1, asked_number(asked, "limit", PAGE))), max(0, asked_number(asked, "offset", 0))
        shown = names[offset : offset + limit]
        rows = [
            server_row(assessment.rows[n], assessment.standings[n], running.get(assessment.rows[n].pk)) for n in shown
        ]
        return Response(ServerPageRow(total=len(names), offset=offset, servers=rows))

    @extend_schema(request=shape(NewServer), responses={201: shape(ServerRow)})
    def post(self, request: Request) -> Response:
        """Add one server by address. It is read when asked for; its certificate must be the fleet's."""
        asked = read(NewServer, request)
        row = Server(name=asked.name, url=asked.url, user=asked.user, rack=asked.rack, unit=asked.unit)
        add_server(row, asked.password)
        return Response(server_row(row, current_assessment().standings[row.name], None), status=201)


def _filtered(names: list[str], assessment: Assessment, asked: Mapping[str, str]) -> list[str]:
    if asked.get("servers"):
        chosen = chosen_names(asked["servers"])
        names = [name for name in names if name in chosen]
    words = asked.get("search", "").lower().split()
    return [name for name in names if all(word in _haystack(name, assessment) for word in words)] if words else names


def _haystack(name: str, assessment: Assessment) -> str:
    row, server = assessment.rows[name], assessment.standings[name].server
    return " ".join([name, server.serial or "", server.model, row.rack, server.group or "", *row.tags]).lower()


def _sorted(names: list[str], assessment: Assessment, by: str) -> list[str]:
    def key(name: str) -> float:
        standing = assessment.standings[name]
        if by == "-outages":
            return -standing.route.outages
        if by == "read_at":
            return standing.server.read_at.timestamp() if standing.server.read_at else 0.0
        return -assessment.counts[name][0 if by == "-off" else 1]

    return sorted(names, key=key) if by in SORTS and by != "name" else names


class ServerView(APIView):
    @extend_schema(responses=shape(ServerDetailRow))
    def get(self, request: Request, name: str) -> Response:
        """One server with every component, its route and what it costs, how it can be fed and what is in the way."""
        assessment = current_assessment()
        row = assessment.rows.get(name)
        if row is None:
            raise Problem("not-found", f"There is no server {name}.", status=404)
        return Response(detail_row(row, assessment.standings[name]))

    @extend_schema(request=shape(ServerChange), responses={204: None})
    def patch(self, request: Request, name: str) -> Response:
        """Change where a server stands, what it is for, or its address."""
        change_server(find_server(name), read_given(ServerChange, request), request.user.get_username())
        return Response(status=204)

    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Take a server out of the house, with its readings; not while a run is at work on it."""
        remove_server(find_server(name))
        return Response(status=204)


def detail_row(row: Server, standing: Standing) -> ServerDetailRow:
    """Everything the panel tells of one server."""
    route, server, since = standing.route, standing.server, first_seen(row)
    proof = f"fewest resets, proven: no route with less than {route.bound_outages} outages can exist"
    if not route.proven:
        proof = f"best found; at least {route.bound_outages} outages are needed"
    return row_from(
        ServerDetailRow,
        server_row(row, standing, running_runs().get(row.pk)),
        url=row.url,
        user=row.user,
        pin=row.pin,
        seen_uuid=row.seen_uuid,
        seen_serial=row.seen_serial,
        uuid=server.uuid,
        tag=server.tag,
        power=server.facts.power if server.facts else None,
        health=server.facts.health if server.facts else None,
        parts=[
            component_row(standing, place, since.get(position.component.slot))
            for place, position in enumerate(standing.positions)
        ],
        rounds=round_rows(route),
        stranded=[row_from(StrandedRow, lost) for lost in route.stranded],
        proof=proof if route.rounds else "",
        readings=row.readings.count(),
        hindrances=[row_from(HindranceRow, hindrance) for hindrance in find_hindrances(server, now())],
        ways=[row_from(ReachWayRow, way) for way in tell_reach(server.facts, row.probes)],
        probed_at=row.probed_at,
        lost_parts=row.lost,
        reported_at=row.report.taken_at if row.report else None,
    )


class CredentialsView(APIView):
    @extend_schema(request=shape(Credentials), responses={204: None})
    def post(self, request: Request, name: str) -> Response:
        """Replace the credentials of one server. They are never shown again."""
        asked = read(Credentials, request)
        keep_credentials([find_server(name)], asked.user, asked.password)
        return Response(status=204)


class ManyCredentialsView(APIView):
    @extend_schema(request=shape(ManyCredentials), responses={204: None})
    def post(self, request: Request) -> Response:
        """Replace the credentials of several servers, or of a whole group, at once."""
        asked = read(ManyCredentials, request)
        rows = list(Server.objects.filter(name__in=asked.servers))
        if asked.group:
            rows += list(Server.objects.filter(group__name=asked.group).exclude(name__in=asked.servers))
        if not rows:
            raise Problem("not-found", "No such servers.", status=404, field="servers")
        keep_credentials(rows, asked.user, asked.password)
        return Response(status=204)


class TrustView(APIView):
    @extend_schema(request=shape(Trust), responses={204: None})
    def post(self, request: Request, name: str) -> Response:
        """Accept the new certificate of a server, by the fingerprint that was shown."""
        asked = read(Trust, request)
        accept_certificates([(find_server(name), asked.pin)], request.user.get_username())
        return Response(status=204)


class OtherBoardView(APIView):
    @extend_schema(request=shape(OtherBoard), responses={204: None})
    def post(self, request: Request, name: str) -> Response:
        """Say that what answers is this very server with another board, by the UUID and serial that were shown."""
        asked = read(OtherBoard, request)
        accept_other_board(find_server(name), asked.uuid or None, asked.serial or None)
        return Response(status=204)


class ManyTrustView(APIView):
    @extend_schema(request=shape(ManyTrust), responses={204: None})
    def post(self, request: Request) -> Response:
        """Accept the certificates of several servers at once, each by the fingerprint that was shown; all or none."""
        asked = read(ManyTrust, request)
        pairs = [(find_server(one.server), one.pin) for one in asked.accept]
        accept_certificates(pairs, request.user.get_username())
        return Response(status=204)


class SurveysView(APIView):
    @extend_schema(request=shape(Whom), responses={202: shape(WorkRow)})
    def post(self, request: Request) -> Response:
        """Read servers; answers at once with the work, which the engine carries out."""
        return Response(work_row(ask_about("survey", "Reading", read(Whom, request))), status=202)


class ReachView(APIView):
    @extend_schema(request=shape(Whom), responses={202: shape(WorkRow)})
    def post(self, request: Request) -> Response:
        """Have controllers send a test to us, over HTTPS and HTTP: who reaches the repository, and who does not."""
        return Response(work_row(ask_about("reach", "Trying the way from", read(Whom, request))), status=202)


def ask_about(kind: str, verb: str, asked: Whom) -> Work:
    """Put work on named servers, those whose last reading failed, or all before the engine."""
    known = list(Server.objects.order_by("name").values_list("name", flat=True))
    if asked.failed:
        known = list(Server.objects.exclude(cause=None).order_by("name").values_list("name", flat=True))
        if not known:
            raise Problem("nothing-to-read", "No server failed when it was read last.", field="failed")
    names = asked.servers or known
    lost = sorted(set(names) - set(known))
    if lost:
        raise Problem("not-found", f"There is no server {lost[0]}.", field="servers")
    if not names:
        raise Problem("nothing-to-read", "There is no server yet. Add one first.", field="servers")
    everything = len(names) == len(known) and not asked.failed
    what = "all servers" if everything else names[0] if len(names) == 1 else f"{len(names)} servers"
    return ask_for(kind, f"{verb} {what}", len(names), "servers", {"servers": names})
