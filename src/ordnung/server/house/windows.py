"""Maintenance windows: kept as rules, given out as openings."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from zoneinfo import ZoneInfo

from ordnung.core.night.recurring import Opening, WindowRuleError, check_rule, find_zone, openings
from ordnung.server.audit.recording import record
from ordnung.server.clock import is_near, now
from ordnung.server.house.models import MaintenanceWindow
from ordnung.server.house.settings import house
from ordnung.server.problems import Problem
from ordnung.server.shapes import limited
from ordnung.server.work.events import tell

LOOKED_AHEAD = datetime.timedelta(days=400)
"""So far ahead the next opening of a window is looked for: yearly ones are kept too."""
LONGEST_ASKED = datetime.timedelta(days=62)


@dataclass(frozen=True, slots=True, kw_only=True)
class OpeningRow:
    window: str
    start: datetime.datetime
    end: datetime.datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class WindowRow:
    id: int
    name: str
    first: datetime.date
    opens: str
    closes: str
    nights: int
    rule: str
    without: list[str]
    next: OpeningRow | None
    """The opening that is under way, or the next one; None when it never opens any more."""


@dataclass(frozen=True, slots=True, kw_only=True)
class WindowChange:
    """A window by the wall clock of the house's zone; ``rule`` as RFC 5545 has it, empty for one that comes once."""

    name: str = limited(max_length=100)
    first: datetime.date
    opens: datetime.time
    closes: datetime.time
    nights: int = limited(min_value=0, max_value=7)
    rule: str = limited(max_length=200, allow_blank=True, default="")
    without: list[datetime.date] = limited(default=list, max_length=400)


def zone() -> ZoneInfo:
    """The house's zone."""
    return find_zone(house().zone)


def window_rows() -> list[WindowRow]:
    """All windows, each with when it opens next."""
    place, at = zone(), now()
    return [_row(row, place, at) for row in MaintenanceWindow.objects.all()]


def _row(row: MaintenanceWindow, place: ZoneInfo, at: datetime.datetime) -> WindowRow:
    coming = openings([row.value()], place, at, at + LOOKED_AHEAD)
    return WindowRow(
        id=row.pk, name=row.name, first=row.first, opens=f"{row.opens:%H:%M}", closes=f"{row.closes:%H:%M}",
        nights=row.nights, rule=row.rule, without=list(row.without), next=opening_row(coming[0]) if coming else None,
    )  # fmt: skip


def opening_row(opening: Opening) -> OpeningRow:
    """An opening as it is given out."""
    return OpeningRow(window=opening.name, start=opening.start, end=opening.end)


def open_between(since: datetime.datetime, until: datetime.datetime) -> tuple[Opening, ...]:
    """When windows are open between two instants. Raises Problem for a span that is too long or none."""
    if not is_near(since) or not since < until <= since + LONGEST_ASKED:
        raise Problem("format", f"Ask for more than nothing and at most {LONGEST_ASKED.days} days.", field="until")
    return openings([row.value() for row in MaintenanceWindow.objects.all()], zone(), since, until)


def next_opening() -> Opening | None:
    """The opening that is under way, or the next one; of several the one that closes first."""
    rules = [row.value() for row in MaintenanceWindow.objects.all()]
    at = now()
    for ahead in (datetime.timedelta(days=8), LOOKED_AHEAD):
        found = openings(rules, zone(), at, at + ahead) if rules else ()
        if found:
            under_way = [o for o in found if o.start <= at]
            return min(under_way, key=lambda o: o.end) if under_way else found[0]
    return None


def coming_openings(name: str) -> tuple[Opening, ...]:
    """The opening of a window that is under way or its next, and those after it, in order; at least one.

    Raises:
        Problem: no such window, or it opens no more.
    """
    row = MaintenanceWindow.objects.filter(name=name).first()
    if row is None:
        raise Problem("no-such-window", f"There is no window {name[:100]}.", status=404, field="window")
    found = openings([row.value()], zone(), now(), now() + LOOKED_AHEAD)
    if not found:
        raise Problem("window-over", f"{name} does not open any more.", status=409, field="window")
    return tuple(found)


def add_window(wanted: WindowChange) -> WindowRow:
    """Keep a window. Raises Problem: the name is taken, or the rule can't be kept."""
    if MaintenanceWindow.objects.filter(name=wanted.name).exists():
        raise Problem("name-taken", f"There is a window {wanted.name} already.", field="name")
    row = MaintenanceWindow(**_values(wanted))
    _demand_rule(row)
    row.save()
    record(on={"window": wanted.name}, after=_told(row))
    tell("house")
    return _row(row, zone(), now())


def change_window(row: MaintenanceWindow, wanted: WindowChange) -> WindowRow:
    """Change a window; sheets that were laid into it keep the times they have. Raises Problem as ``add_window``."""
    if MaintenanceWindow.objects.filter(name=wanted.name).exclude(pk=row.pk).exists():
        raise Problem("name-taken", f"There is a window {wanted.name} already.", field="name")
    before = _told(row)
    for name, value in _values(wanted).items():
        setattr(row, name, value)
    _demand_rule(row)
    row.save()
    record(on={"window": row.name}, before=before, after=_told(row))
    tell("house")
    return _row(row, zone(), now())


def drop_window(row: MaintenanceWindow) -> None:
    """Forget a window."""
    record(on={"window": row.name}, before=_told(row))
    row.delete()
    tell("house")


def _values(wanted: WindowChange) -> dict[str, object]:
    return {**asdict(wanted), "without": sorted(day.isoformat() for day in wanted.without)}


def _told(row: MaintenanceWindow) -> dict[str, object]:
    names: Sequence[str] = ("name", "first", "opens", "closes", "nights", "rule", "without")
    return {n: v if isinstance(v := getattr(row, n), (list, int)) else str(v) for n in names}


def _demand_rule(row: MaintenanceWindow) -> None:
    try:
        check_rule(row.value())
    except WindowRuleError as error:
        raise Problem("format", str(error), field=error.field) from None
