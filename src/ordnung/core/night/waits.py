"""What each server of a timetable waits for: every gap with the limit that was full until then, and who held it.

Each server takes the earliest place there is, so whatever it waited for ends just when its gap does.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

from ordnung.core.away import limits_of
from ordnung.core.night.limits import NightLimits
from ordnung.core.night.placing import Placed, worked_on
from ordnung.core.night.timetable import Seat, Timetable

Key = tuple[str, str]
"""A limit by kind and name; of those at once and the link the name is empty."""
AT_ONCE, LINK = ("at once", ""), ("link", "")


@dataclass(frozen=True, slots=True, kw_only=True)
class Wait:
    """A gap before a step (seconds), and why in words."""

    start: float
    end: float
    why: str


def tell_waits(timetable: Timetable, limits: NightLimits) -> dict[str, tuple[Wait, ...]]:
    """Every gap of every server, its beginning included; what is not ahead only."""
    ends = _ends(timetable, limits)
    releases = _releases(timetable, limits)
    return {seat.server: tuple(_waits(seat, limits, ends, releases)) for seat in timetable.seats}


def _ends(timetable: Timetable, limits: NightLimits) -> dict[Key, dict[float, str]]:
    """By limit, when somebody gives a place of it back, and who."""
    found: dict[Key, dict[float, str]] = defaultdict(dict)
    for seat in timetable.seats:
        placed = seat.placed
        for _, end in worked_on(placed):
            found[AT_ONCE][end] = seat.server
        for start, step in zip(placed.starts, placed.itinerary.steps, strict=True):
            if step.kind == "staging":
                found[LINK][start + step.seconds] = seat.server
        for kind, name, _ in limits_of(placed.itinerary.place, limits.away) if placed.holds else ():
            healing = limits.group(name).heal_seconds if kind == "group" else 0.0
            for _, end in placed.holds:
                found[kind, name][end + healing] = seat.server
    return found


def _releases(timetable: Timetable, limits: NightLimits) -> dict[str, tuple[float, str]]:
    """When each wave may begin at the earliest, and what it waited for."""
    found: dict[str, tuple[float, str]] = {}
    at, before = 0.0, ""
    for wave in limits.waves:
        members = [seat.placed.end for seat in timetable.seats if seat.wave == wave.name]
        if not members:
            continue
        found[wave.name] = (max(at, wave.not_before), before if at >= wave.not_before else "the time that was wished")
        at = max(at, *members) + wave.wait_seconds
        before = f"{wave.name} to be done" + (f" and {wave.wait_seconds / 60:g} min" if wave.wait_seconds else "")
    return found


def _waits(
    seat: Seat, limits: NightLimits, ends: dict[Key, dict[float, str]], releases: dict[str, tuple[float, str]]
) -> Iterator[Wait]:
    placed = seat.placed
    starts, stretches = placed.starts, placed.itinerary.stretches
    at, why = releases.get(seat.wave or "", (0.0, ""))
    if why and placed.begins == at > 0:
        yield Wait(start=0.0, end=at, why=f"for {why}")
        at = placed.begins
    elif placed.begins > at:
        yield Wait(start=at, end=placed.begins, why=_why(seat, 0, limits, ends))
    for number, (before, stretch) in enumerate(itertools.pairwise(stretches), start=1):
        ended, begins = starts[before.first] + before.seconds, starts[stretch.first]
        if begins > ended:
            yield Wait(start=ended, end=begins, why=_why(seat, number, limits, ends))


def _why(seat: Seat, number: int, limits: NightLimits, ends: dict[Key, dict[float, str]]) -> str:
    placed = seat.placed
    begins = placed.starts[placed.itinerary.stretches[number].first]
    wish = limits.wish_of.get(seat.server)
    if not number and wish is not None and wish.at == begins:
        return "for the time that was wished"
    if not number and seat.window is not None and seat.window.start == begins:
        return "for the window to open"
    for kind, name, allowed in limits_of(placed.itinerary.place, limits.away):
        who = next(
            (s for at in _opens(placed, number) if (s := ends[kind, name].get(at)) not in (None, seat.server)), None
        )
        if who is not None:
            return f"for {who}: {kind} {name} allows {allowed} away"
    for key, words in ((AT_ONCE, f"{limits.at_once} servers at once"), (LINK, f"{limits.transfers} transfers at once")):
        who = ends[key].get(begins)
        if who not in (None, seat.server):
            return f"for {who}: {words}"
    return "for a place that is free for as long as it needs it"


def _opens(placed: Placed, number: int) -> list[float]:
    """When the places among those away are taken that its stretch, or one right after it, needs."""
    first = placed.starts[placed.itinerary.stretches[number].first]
    return [start for start, _ in placed.holds if start >= first]
