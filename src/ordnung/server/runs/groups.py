"""Groups of servers that serve together: how many of each may be away, and who is."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Literal

from django.db import transaction

from ordnung.server.audit.recording import record
from ordnung.server.fleet.models import Group, Server
from ordnung.server.house.models import Hook
from ordnung.server.problems import Problem
from ordnung.server.runs.models import AwayLease
from ordnung.server.shapes import limited, row_from
from ordnung.server.work.events import tell

MOST_AWAY, WEEK_S = 100_000, 7 * 86400
Helper = Literal["", "person", "hook"]


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupRow:
    name: str
    may_be_away: int
    heal_seconds: int
    mover: Helper
    healer: Helper
    hook: str
    off_seconds: int
    back_seconds: int
    between: bool
    servers: int
    members: list[str]
    away: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupChange:
    """What shall be another way; what is absent stays as it is. ``hook`` by its name, empty for none."""

    name: str | None = limited(default=None, max_length=200)
    may_be_away: int | None = limited(default=None, min_value=0, max_value=MOST_AWAY)
    heal_seconds: int | None = limited(default=None, min_value=0, max_value=WEEK_S)
    mover: Helper | None = None
    healer: Helper | None = None
    hook: str | None = limited(default=None, max_length=100, allow_blank=True)
    off_seconds: int | None = limited(default=None, min_value=0, max_value=WEEK_S)
    back_seconds: int | None = limited(default=None, min_value=0, max_value=WEEK_S)
    between: bool | None = None


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
            hook=row.hook.name if row.hook else "",
            servers=len(members.get(row.name, [])),
            members=members.get(row.name, []),
            away=sorted(away.get(row.name, [])),
        )
        for row in Group.objects.select_related("hook").order_by("name")
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


def change_group(row: Group, wanted: GroupChange) -> None:
    """Rename a group, change how many of it may be away, how it heals, who moves its work.

    What is away already stays counted; what a server at work asks for stays as it was asked.

    Raises:
        Problem: the new name is taken, it can't be renamed while somebody of it is away, or a hook is to be asked and
            none is named.
    """
    if wanted.name and wanted.name != row.name:
        if Group.objects.filter(name=wanted.name).exists():
            raise Problem("name-taken", f"There is a group {wanted.name} already.", field="name")
        _demand_nobody_away(row.name, "renamed")
    given = {f.name: value for f in fields(wanted) if (value := getattr(wanted, f.name)) is not None}
    if "hook" in given:
        given["hook"] = _find_hook(given["hook"])
    before = {name: str(getattr(row, name)) for name in given}
    for name, value in given.items():
        setattr(row, name, value)
    if "hook" in (row.mover, row.healer) and row.hook is None:
        raise Problem("no-hook", f"Say which hook is asked for {row.name}.", field="hook")
    record(on={"group": row.name}, before=before, after={name: str(value) for name, value in given.items()})
    row.save()
    tell("readings")


def _find_hook(name: str) -> Hook | None:
    if not name:
        return None
    hook = Hook.objects.filter(name=name).first()
    if hook is None:
        raise Problem("no-such-hook", f"There is no hook {name}.", field="hook")
    return hook


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
