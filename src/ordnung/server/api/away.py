"""Groups with how many of each may be away, and the servers that are: kept through failures until they are back."""

from __future__ import annotations

import csv
import datetime
import io
from dataclasses import dataclass

from django.db import transaction
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.audit.recording import record
from ordnung.server.fleet.models import Group
from ordnung.server.problems import Problem
from ordnung.server.runs.leases import give_back
from ordnung.server.runs.models import AwayLease
from ordnung.server.shapes import limited, read, row_from, shape
from ordnung.server.work.events import tell

MOST_AWAY = 100_000


@dataclass(frozen=True, slots=True, kw_only=True)
class NewGroup:
    name: str = limited(max_length=200)
    may_be_away: int = limited(min_value=0, max_value=MOST_AWAY)


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupRow:
    name: str
    may_be_away: int
    servers: int
    away: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupChange:
    name: str | None = limited(default=None, max_length=200)
    may_be_away: int | None = limited(default=None, min_value=0, max_value=MOST_AWAY)


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupList:
    """``list`` is CSV with the columns group and may_be_away."""

    list: str = limited(max_length=1000000)


def group_rows() -> list[GroupRow]:
    """All groups, with who of each is away or about to be."""
    away: dict[str, list[str]] = {}
    for name, groups in AwayLease.objects.filter(outage=True).values_list("server__name", "groups"):
        for group in groups:
            away.setdefault(group, []).append(name)
    rows = Group.objects.order_by("name")
    return [row_from(GroupRow, row, servers=row.servers.count(), away=sorted(away.get(row.name, []))) for row in rows]


class GroupsView(APIView):
    @extend_schema(responses=shape(GroupRow)(many=True))
    def get(self, request: Request) -> Response:
        """All groups: servers that serve together, and how many of them may be away at once."""
        return Response(group_rows())

    @extend_schema(request=shape(NewGroup), responses={201: shape(GroupRow)(many=True)})
    def post(self, request: Request) -> Response:
        """Make a group."""
        asked = read(NewGroup, request)
        _, made = Group.objects.get_or_create(name=asked.name, defaults={"may_be_away": asked.may_be_away})
        if not made:
            raise Problem("name-taken", f"There is a group {asked.name} already.", field="name")
        tell("runs")
        return Response(group_rows(), status=201)

    @extend_schema(request=shape(GroupList), responses=shape(GroupRow)(many=True))
    def put(self, request: Request) -> Response:
        """Make or change groups by a list; all of it or nothing."""
        asked = read(GroupList, request)
        limits = parse_limits(asked.list)
        with transaction.atomic():
            for name, may_be_away in limits.items():
                Group.objects.update_or_create(name=name, defaults={"may_be_away": may_be_away})
            tell("runs")
        return Response(group_rows())


def parse_limits(text: str) -> dict[str, int]:
    """Group names to limits, from CSV. Raises Problem that names the line."""
    rows = csv.DictReader(io.StringIO(text.lstrip("\ufeff")), skipinitialspace=True)
    columns = {"group", "may_be_away"}
    if set(rows.fieldnames or ()) != columns:
        raise Problem("format", "The list needs the columns group and may_be_away, and no others.", field="list")
    found: dict[str, int] = {}
    for row in rows:
        name, number = (row["group"] or "").strip(), (row["may_be_away"] or "").strip()
        where = f"line {rows.line_num}"
        if not name or len(name) > 200:
            raise Problem("format", f"{where}: the group has no name, or one of more than 200 letters.", field="list")
        if not (number.isascii() and number.isdigit()) or int(number) > MOST_AWAY:
            raise Problem("format", f"{where}: {number[:40] or 'nothing'} is not how many may be away.", field="list")
        if name in found:
            raise Problem("format", f"{where}: {name} stands twice.", field="list")
        found[name] = int(number)
    return found


class GroupView(APIView):
    @extend_schema(request=shape(GroupChange), responses=shape(GroupRow)(many=True))
    def patch(self, request: Request, name: str) -> Response:
        """Rename a group, or change how many of it may be away. What is away already stays counted."""
        asked = read(GroupChange, request)
        row = _find(name)
        new = asked.name or name
        if new != name and Group.objects.filter(name=new).exists():
            raise Problem("name-taken", f"There is a group {new} already.", field="name")
        if new != name:
            _demand_nobody_away(name, "renamed")
        record(before={"name": row.name, "may_be_away": row.may_be_away})
        row.name, row.may_be_away = new, row.may_be_away if asked.may_be_away is None else asked.may_be_away
        row.save()
        tell("readings")
        return Response(group_rows())

    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Take a group away; its servers stay, without a limit on who may be away together."""
        row = _find(name)
        _demand_nobody_away(name, "taken away")
        row.delete()
        tell("readings")
        return Response(status=204)


def _find(name: str) -> Group:
    row = Group.objects.filter(name=name).first()
    if row is None:
        raise Problem("not-found", f"There is no group {name}.", status=404)
    return row


def _demand_nobody_away(name: str, what: str) -> None:
    away: list[str] = next((row.away for row in group_rows() if row.name == name), [])
    if away:
        message = f"{', '.join(away)} of {name} is away or about to be; the group can't be {what} before it is back."
        raise Problem("group-away", message, status=409)


@dataclass(frozen=True, slots=True, kw_only=True)
class AwayRow:
    server: str
    run: int
    run_name: str
    groups: list[str]
    outage: bool
    kept: bool
    since: datetime.datetime
    doubt: str


@dataclass(frozen=True, slots=True, kw_only=True)
class GiveBack:
    reason: str = limited(max_length=500)


def away_row(lease: AwayLease) -> AwayRow:
    """One server that holds a place."""
    return row_from(AwayRow, lease, server=lease.server.name, run=lease.run_id, run_name=lease.run.name)


class AwayListView(APIView):
    @extend_schema(responses=shape(AwayRow)(many=True))
    def get(self, request: Request) -> Response:
        """Every server that is away because of us or about to be; ``kept`` ones were left away by a failure."""
        leases = AwayLease.objects.select_related("server", "run").order_by("server__name")
        return Response([away_row(lease) for lease in leases])


class AwayBackView(APIView):
    @extend_schema(request=shape(GiveBack), responses={204: None})
    def post(self, request: Request, name: str) -> Response:
        """A person says, with a reason, that a server that was left away is back. It stands on its tape."""
        asked = read(GiveBack, request)
        give_back(name, request.user.get_username(), asked.reason)
        return Response(status=204)
