"""A timetable in which each server is back in its window as surely as was asked for (F4)."""

from __future__ import annotations

import math
from collections.abc import Collection

from ordnung.core.night.durations import History
from ordnung.core.night.forecast import Forecast, forecast
from ordnung.core.night.itinerary import Duty, Itinerary
from ordnung.core.night.limits import NightLimits
from ordnung.core.night.timetable import Timetable, plan_timetable


def plan_surely(
    duties: Collection[Duty | Itinerary],
    limits: NightLimits,
    *,
    samples: int,
    seed: int = 0,
    history: History | None = None,
    tries: int | None = None,
) -> tuple[Timetable, Forecast]:
    """The timetable and its forecast; with windows and a certainty asked for, the unsure are left over.

    Those with the least chance go first and what is left is planned anew, since whoever waited for them may be sure
    then. ``duties`` and ``tries`` as in ``plan_timetable``.
    """
    dropped: dict[str, str] = {}
    while True:
        timetable = plan_timetable(duties, limits, tries=tries, dropped=dropped)
        found = forecast(timetable, limits, samples=samples, seed=seed, history=history)
        if limits.certainty is None:
            return timetable, found
        asked = limits.certainty
        unsure = sorted((c.in_time, c.server) for c in found.servers if c.in_time is not None and c.in_time < asked)
        if not unsure:
            return timetable, found
        for chance, server in unsure[: math.ceil(len(unsure) / 2)]:
            dropped[server] = f"back in time with {_percent(chance)}, {_percent(asked)} are asked for"


def _percent(share: float) -> str:
    """Rounded down, so that what falls short never looks as though it did not."""
    return f"{math.floor(share * 1000 + 1e-9) / 10:g} %"
