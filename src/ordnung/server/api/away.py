"""Groups with how many of each may be away, and the servers that are: kept through failures until they are back."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.server.api.paging import paged, rows_of
from ordnung.server.runs.groups import (
    MOST_AWAY,
    GroupChange,
    GroupRow,
    add_group,
    change_group,
    find_group,
    group_rows,
    parse_limits,
    remove_group,
    set_limits,
)
from ordnung.server.runs.leases import give_back
from ordnung.server.runs.models import AwayLease
from ordnung.server.shapes import limited, read, row_from, shape


@dataclass(frozen=True, slots=True, kw_only=True)
class NewGroup:
    name: str = limited(max_length=200)
    may_be_away: int = limited(min_value=0, max_value=MOST_AWAY)


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupList:
    """``list`` is CSV with the columns group and may_be_away."""

    list: str = limited(max_length=1000000)


class GroupsView(APIView):
    @paged(GroupRow)
    def get(self, request: Request) -> Response:
        """All groups: servers that serve together, and how many of them may be away at once."""
        return rows_of(request, group_rows())

    @extend_schema(request=shape(NewGroup), responses={201: shape(GroupRow)(many=True)})
    def post(self, request: Request) -> Response:
        """Make a group."""
        asked = read(NewGroup, request)
        add_group(asked.name, asked.may_be_away)
        return Response(group_rows(), status=201)

    @extend_schema(request=shape(GroupList), responses=shape(GroupRow)(many=True))
    def put(self, request: Request) -> Response:
        """Make or change groups by a list; all of it or nothing."""
        set_limits(parse_limits(read(GroupList, request).list))
        return Response(group_rows())


class GroupView(APIView):
    @extend_schema(request=shape(GroupChange), responses=shape(GroupRow)(many=True))
    def patch(self, request: Request, name: str) -> Response:
        """Rename a group, change how many of it may be away, how it heals, who moves its work off and back."""
        change_group(find_group(name), read(GroupChange, request))
        return Response(group_rows())

    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Take a group away; its servers stay, without a limit on who may be away together."""
        remove_group(find_group(name))
        return Response(status=204)


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
    @paged(AwayRow)
    def get(self, request: Request) -> Response:
        """Every server that is away because of us or about to be; ``kept`` ones were left away by a failure."""
        leases = AwayLease.objects.select_related("server", "run").order_by("server__name")
        return rows_of(request, [away_row(lease) for lease in leases])


class AwayBackView(APIView):
    @extend_schema(request=shape(GiveBack), responses={204: None})
    def post(self, request: Request, name: str) -> Response:
        """A person says, with a reason, that a server that was left away is back. It stands on its tape."""
        asked = read(GiveBack, request)
        give_back(name, request.user.get_username(), asked.reason)
        return Response(status=204)
