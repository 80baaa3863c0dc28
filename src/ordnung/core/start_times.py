"""Which start the times tell of that a controller tells (LastResetTime of ComputerSystem and Manager). Pure."""

from __future__ import annotations

import datetime

RECKONED_S = 30.0
"""Times nearer than this are of one start: two starts are never so near."""
UNTOLD_S = 600.0
"""For so long a start may last of which its controller tells nothing."""


def is_fresh_start(started: str | None, now: datetime.datetime, lasts_s: float) -> bool:
    """Whether a start of which nothing but its time is told may not be over, if it lasts so many seconds."""
    moment = parse_moment(started)
    return moment is not None and abs((now - moment).total_seconds()) < lasts_s


def is_same_start(before: str | None, now: str | None) -> bool | None:
    """Whether two times tell of one start; None where one of them is untold.

    Where they are reckoned from how long something has run, they differ with each reading by a little.
    """
    if before is None or now is None:
        return None
    one, other = parse_moment(before), parse_moment(now)
    if one is None or other is None:
        return before == now
    return abs((one - other).total_seconds()) < RECKONED_S


def parse_moment(text: str | None) -> datetime.datetime | None:
    """A time as Redfish spells it (DSP0266, "Date-time values"), in UTC where it names no offset; None: it is none."""
    try:
        moment = datetime.datetime.fromisoformat(text or "")
    except ValueError:
        return None
    return moment if moment.tzinfo else moment.replace(tzinfo=datetime.UTC)
