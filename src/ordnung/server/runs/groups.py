"""Groups of servers that serve together: how many of each may be away, and who is."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass

from django.db import transaction

from ordnung.server.audit.recording import record
from ordnung.server.fleet.models import Group, Server
from ordnung.server.problems import Problem
from ordnung.server.runs.models import AwayLease
from ordnung.server.shapes import row_from
from ordnung.server.work.events import tell

MOST_AWAY = 100_000


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupRow:
    name: str
    may_be_away: int
    heal_seconds: int
    servers: int
    members: list[str]
    away: list[str]


def group_rows() -> list[GroupRow]:
    """All groups, with who of each is away or about to be."""
    away: dict[str, list[str]] = {}
    for name, groups in AwayLease.objects.filter(outage=True).values_list("server__name", "groups"):
        for group in groups:
            away.setdefault(group, []).append(name)
    members: dict[str, list[str]] = {}
    for group, server in Server.objects.exclude(group=None).order_by("name").values_list("group__name", "name"):
        members.setdefault(group, []).append(server)
    return [
        row_from(
            GroupRow,
            row,
            servers=len(members.get(row.name, [])),
            members=members.get(row.name, []),
            away=sorted(away.get(row.name, [])),
        )
        for row in Group.objects.order_by("name")
    ]


def add_group(name: str, may_be_away: int) -> None:
    """Make a group. Raises Problem when the name is taken."""
    _, made = Group.objects.get_or_create(name=name, defaults={"may_be_away": may_be_away})
    if not made:
        raise Problem("name-taken", f"There is a group {name} already.", field="name")
    tell("runs")


def set_limits(limits: Mapping[str, int]) -> None:
    """Make or change groups, all or none."""
    with transaction.atomic():
        for name, may_be_away in limits.items():
            Group.objects.update_or_create(name=name, defaults={"may_be_away": may_be_away})
        tell("runs")


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


def change_group(row: Group, name: str | None, may_be_away: int | None, heal_seconds: int | None = None) -> None:
    """Rename a group, change how many of it may be away, or how long one that is back still counts.

    What is away already stays counted.

    Raises:
        Problem: the new name is taken, or it can't be renamed while somebody of it is away.
    """
    new = name or row.name
    if new != row.name:
        if Group.objects.filter(name=new).exists():
            raise Problem("name-taken", f"There is a group {new} already.", field="name")
        _demand_nobody_away(row.name, "renamed")
    record(before={"name": row.name, "may_be_away": row.may_be_away, "heal_seconds": row.heal_seconds})
    row.heal_seconds = row.heal_seconds if heal_seconds is None else heal_seconds
    row.name, row.may_be_away = new, row.may_be_away if may_be_away is None else may_be_away
    row.save()
    tell("readings")


def remove_group(row: Group) -> None:
    """Take a group away; its servers stay, without a limit. Raises Problem while somebody of it is away."""
    _demand_nobody_away(row.name, "taken away")
    row.delete()
    tell("readings")


def find_group(name: str) -> Group:
    """The group, or a 404 in words."""
    row = Group.objects.filter(name=name).first()
    if row is None:
        raise Problem("not-found", f"There is no group {name}.", status=404)
    return row


def _demand_nobody_away(name: str, what: str) -> None:
    away: list[str] = next((row.away for row in group_rows() if row.name == name), [])
    if away:
        message = f"{', '.join(away)} of {name} is away or about to be; the group can't be {what} before it is back."
        raise Problem("group-away", message, status=409)
