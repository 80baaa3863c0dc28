"""Who may be worked on and who may be away: one answer for the timetable and the engine (``night.md`` T5, T6, T13).

A *place* is what a server takes for the time it is worked on. One that will be out of service takes the places of
its groups, its rack and its room too. The limits hold over everything Ordnung does at a site, not within one run.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

AT_ONCE = 8
"""Servers worked on at one time over the whole site, unless the house says otherwise (T6)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class AwayPlace:
    """A place of one server. ``outage``: it will be out of service; else it only counts among those at once.

    ``kept``: nobody works on it any more, but no reading has proved it back (T5): it counts in its groups, rack and
    room, not among those at once (docs/adr/0015).
    """

    server: str
    groups: tuple[str, ...] = ()
    rack: str | None = None
    room: str | None = None
    outage: bool = True
    kept: bool = False
    ahead: bool = False
    """Nothing but writes that wait for a reset is done with it, in service: it counts among those at once (T8)."""
    heals: bool = False
    """It is back, but its groups count it until what it holds is whole again (T5, A13)."""

    def names(self, kind: str) -> tuple[str | None, ...]:
        """Its groups, its rack or its room: what a limit of that kind goes by."""
        return {"group": self.groups, "rack": (self.rack,), "room": (self.room,)}[kind]


@dataclass(frozen=True, slots=True, kw_only=True)
class AwayLimits:
    """How many may be away: by group, rack and room (by name; without an entry there is no limit), and at once."""

    groups: Mapping[str, int] = field(default_factory=dict)
    racks: Mapping[str, int] = field(default_factory=dict)
    rooms: Mapping[str, int] = field(default_factory=dict)
    at_once: int = AT_ONCE

    def allowed(self, kind: str, name: str) -> int:
        """How many a limit allows. Raises KeyError where there is none."""
        return {"group": self.groups, "rack": self.racks, "room": self.rooms}[kind][name]


@dataclass(frozen=True, slots=True, kw_only=True)
class Refusal:
    """Why a server may not begin now: which limit, its name, how many it allows, who holds the places.

    ``kept`` is true when nobody works on any of the holders: waiting alone will not free a place.
    """

    limit: str
    name: str
    allowed: int
    holders: tuple[str, ...]
    kept: bool = False

    @property
    def never(self) -> bool:
        """Whether no time will come for it: places come free, or a person frees them."""
        return False

    def __str__(self) -> str:
        who = ", ".join(self.holders) or "nobody"
        match self.limit:
            case "server":
                return f"another run works on {self.name}"
            case "at once":
                return f"{self.allowed} servers are worked on already"
        if not self.allowed:
            return f"nobody of {self.limit} {self.name} may be away"
        message = "is left away" if self.kept else "is away or about to be"
        return f"{self.limit} {self.name} allows {self.allowed} away: {who} {message}"


def may_begin(taken: Iterable[AwayPlace], limits: AwayLimits, candidate: AwayPlace) -> Refusal | None:
    """Whether one more server may begin, given who has a place now (T5, T6). None: it may.

    A server that has a place already needs no further one, unless it begins to need an outage (docs/adr/0015).
    """
    others = [place for place in taken if place.server != candidate.server]
    working = tuple(place.server for place in others if not (place.kept or place.heals))
    if len(working) >= limits.at_once:
        return Refusal(limit="at once", name="", allowed=limits.at_once, holders=working)
    if not candidate.outage:
        return None
    away = [place for place in others if place.outage]
    for kind, name, allowed in limits_of(candidate, limits):
        holders = [place for place in away if name in place.names(kind)]
        if len(holders) >= allowed:
            return Refusal(
                limit=kind,
                name=name,
                allowed=allowed,
                holders=tuple(sorted(f"{p.server} (healing)" if p.heals else p.server for p in holders)),
                kept=all(place.kept for place in holders),
            )
    return None


def limits_of(place: AwayPlace, limits: AwayLimits) -> list[tuple[str, str, int]]:
    """What a server needs a place of while it is away: kind and name of each limit, and how many it allows (T5, T13).

    Asked by the engine, the timetable and the forecast alike.
    """
    asked = [
        *(("group", name, limits.groups.get(name)) for name in place.groups),
        ("rack", place.rack, limits.racks.get(place.rack or "")),
        ("room", place.room, limits.rooms.get(place.room or "")),
    ]
    return [(kind, name, allowed) for kind, name, allowed in asked if name is not None and allowed is not None]
