"""Windows that come again: a rule of RFC 5545 on the wall clock of a zone, made into instants (T9).

A window is meant by the wall clock: "22:00 to 04:00" lasts five hours in the night in which the clock is put on and
seven in the one in which it is put back. A time that the clock leaves out is read by what held before it (RFC 5545,
3.3.5); of a time that comes twice the first is meant.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterable
from dataclasses import dataclass
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from dateutil.rrule import rrule, rrulestr

LONGEST_DAYS = 7
FIRST_YEAR, LAST_YEAR = 2000, 2100
_DAYS = r"(MO|TU|WE|TH|FR|SA|SU)"
_PARTS = {
    "INTERVAL": re.compile(r"[1-9]\d?"),
    "COUNT": re.compile(r"[1-9]\d{0,3}"),
    "UNTIL": re.compile(r"\d{8}"),
}
_BY = {
    "DAILY": {},
    "WEEKLY": {"BYDAY": re.compile(rf"{_DAYS}(,{_DAYS})*")},
    "MONTHLY": {
        "BYDAY": re.compile(rf"[+-]?[1-5]{_DAYS}(,[+-]?[1-5]{_DAYS})*"),
        "BYMONTHDAY": re.compile(r"-?([1-9]|[12]\d|3[01])"),
    },
}
"""What each frequency may be narrowed by: enough for maintenance windows, and never a rule that searches for ever."""


class WindowRuleError(ValueError):
    """A window or its rule says nothing that could be kept; the message says what, ``field`` where."""

    def __init__(self, message: str, field: str = "rule") -> None:
        self.field = field
        super().__init__(message)


@dataclass(frozen=True, slots=True, kw_only=True)
class WindowRule:
    """A window: it opens on ``first`` at ``opens`` and closes ``nights`` days later at ``closes``, wall clock.

    ``rule`` is a recurrence rule (RFC 5545, 3.3.10) by days, weeks or months; empty: it comes once. ``without`` are
    days on which it does not open (EXDATE).
    """

    name: str
    first: datetime.date
    opens: datetime.time
    closes: datetime.time
    nights: int = 1
    rule: str = ""
    without: frozenset[datetime.date] = frozenset()


@dataclass(frozen=True, slots=True, order=True)
class Opening:
    """One time that a window is open: aware instants."""

    start: datetime.datetime
    end: datetime.datetime
    name: str


def find_zone(name: str) -> ZoneInfo:
    """A zone of the tz database. Raises WindowRuleError for a name that it has not."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise WindowRuleError(f"{name} is no zone of the tz database, as Europe/Lisbon is one.", "zone") from None


def check_rule(window: WindowRule) -> None:
    """Raises WindowRuleError: it never closes after it opened, is longer than a week, or its rule can't be kept."""
    if not 0 <= window.nights <= LONGEST_DAYS:
        raise WindowRuleError(f"A window closes at most {LONGEST_DAYS} days after it opened.", "nights")
    if not FIRST_YEAR <= window.first.year <= LAST_YEAR:
        # A rule is walked from its first day on.
        raise WindowRuleError(f"A window first opens between {FIRST_YEAR} and {LAST_YEAR}.", "first")
    if window.nights == 0 and window.closes <= window.opens:
        raise WindowRuleError("It closes before it opens. Does it go over midnight?", "closes")
    _recurrence(window)


def openings(
    windows: Iterable[WindowRule], zone: ZoneInfo, since: datetime.datetime, until: datetime.datetime
) -> tuple[Opening, ...]:
    """When windows are open between two aware instants, in order; one that is open at ``since`` is among them.

    Raises:
        WindowRuleError: as ``check_rule``.
    """
    found: list[Opening] = []
    for window in windows:
        check_rule(window)
        begin = since.astimezone(zone).replace(tzinfo=None) - datetime.timedelta(days=window.nights + 1)
        end = until.astimezone(zone).replace(tzinfo=None) + datetime.timedelta(days=1)
        for start in _starts(window, begin, end):
            opening = _opening(window, start, zone)
            if start.date() not in window.without and opening.end > since and opening.start < until:
                found.append(opening)
    return tuple(sorted(found))


def _starts(window: WindowRule, begin: datetime.datetime, end: datetime.datetime) -> list[datetime.datetime]:
    found = _recurrence(window)
    first = datetime.datetime.combine(window.first, window.opens)
    if found is None:
        return [first] if begin <= first <= end else []
    return list(found.between(begin, end, inc=True))


def _opening(window: WindowRule, start: datetime.datetime, zone: ZoneInfo) -> Opening:
    closing = datetime.datetime.combine(start.date() + datetime.timedelta(days=window.nights), window.closes)
    # Through UTC: between two times of one zone Python counts by the wall clock.
    opened, closed = (t.replace(tzinfo=zone).astimezone(datetime.UTC) for t in (start, closing))
    return Opening(opened, max(opened, closed), window.name)


def _recurrence(window: WindowRule) -> rrule | None:
    if not window.rule:
        return None
    told = dict(_part(part) for part in window.rule.split(";"))
    by = _BY.get(told.get("FREQ", ""))
    if by is None or len(told) != window.rule.count(";") + 1:
        raise WindowRuleError("A window comes again by FREQ=DAILY, WEEKLY or MONTHLY, each part named once.")
    for name, value in told.items():
        allowed = {**_PARTS, **by}.get(name)
        if name != "FREQ" and (allowed is None or not allowed.fullmatch(value)):
            raise WindowRuleError(f"{name}={value} can't be kept with FREQ={told['FREQ']}.")
    if "COUNT" in told and "UNTIL" in told:
        raise WindowRuleError("A rule ends by COUNT or by UNTIL, not by both.")
    try:
        found = rrulestr(_with_end(window.rule), dtstart=datetime.datetime.combine(window.first, window.opens))
    except ValueError as error:
        raise WindowRuleError(f"The rule can't be kept: {error}.") from None
    assert isinstance(found, rrule)
    return found


def _part(text: str) -> tuple[str, str]:
    name, sign, value = text.partition("=")
    if not sign:
        raise WindowRuleError(f"{text[:40]} is no part of a rule; parts are NAME=VALUE between semicolons.")
    return name, value


def _with_end(rule: str) -> str:
    """The last day of a rule belongs to it, whatever time the window opens."""
    return re.sub(r"UNTIL=(\d{8})", r"UNTIL=\1T235959", rule)
