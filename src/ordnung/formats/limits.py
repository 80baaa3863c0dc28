"""What a night has to keep, ``ordnung.limits/1`` (``docs/rules/night.md``, on files)."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ordnung.core.away import AT_ONCE, AwayPlace
from ordnung.core.components import Server
from ordnung.core.night.itinerary import exact
from ordnung.core.night.limits import TRANSFERS, GroupLimit, NightLimits, Wave, Window
from ordnung.formats.documents import parse_document, read_instant
from ordnung.formats.errors import FormatError


@dataclass(frozen=True, slots=True, kw_only=True)
class LimitsFile:
    """The limits of a file, in seconds from ``start`` (None when nothing tells it, A30)."""

    start: datetime.datetime | None
    limits: NightLimits


def parse_limits(raw: bytes, servers: Sequence[Server], source: str = "limits") -> LimitsFile:
    """The limits of a night for these servers.

    Raises:
        FormatError: not by the schema, or one of A25: a server that is not in the readings or in two waves, two waves
            that take the rest, two groups of one name, a window that ends before it starts, a time without its zone.
    """
    document = parse_document(raw, "limits", source)
    by_name = {server.name: server for server in servers}
    spans = [_span(w, source, f"windows.{n}") for n, w in enumerate(document.get("windows", ()))]
    told = document.get("start")
    start = read_instant(told, source, "start") if told is not None else min((s for s, _ in spans), default=None)
    windows = tuple(Window(_since(start, a), _since(start, b)) for a, b in spans)
    limits = NightLimits(
        at_once=document.get("at_once", AT_ONCE),
        transfers=document.get("transfers", TRANSFERS),
        bytes_per_second=document.get("bytes_per_second"),
        groups=_groups(document, source),
        racks=document.get("racks", {}),
        rooms=document.get("rooms", {}),
        waves=_waves(document, by_name, source),
        windows=windows or None,
        ahead=document.get("ahead", "nothing"),
        certainty=document.get("certainty"),
        occupied=_join([_occupied(o, by_name.get(o["server"])) for o in document.get("occupied", ())]),
    )
    return LimitsFile(start=start, limits=limits)


def place_in(server: Server, outage: bool = True) -> AwayPlace:
    """A server's place among the limits, by what its reading says of it (A6)."""
    groups = (server.group,) if server.group else ()
    return AwayPlace(
        server=server.name, groups=groups, rack=server.rack or None, room=server.room or None, outage=outage
    )


def _groups(document: dict[str, Any], source: str) -> tuple[GroupLimit, ...]:
    groups = document.get("groups", ())
    _demand_once([g["name"] for g in groups], source, "groups", "group")
    return tuple(
        GroupLimit(
            name=g["name"],
            may_be_away=g.get("may_be_away"),
            heal_seconds=exact(g.get("heal_seconds", 0)),
            off_seconds=exact(g.get("off_seconds", 0)),
            back_seconds=exact(g.get("back_seconds", 0)),
            between=g.get("between", False),
        )
        for g in groups
    )


def _waves(document: dict[str, Any], by_name: dict[str, Server], source: str) -> tuple[Wave, ...]:
    waves = document.get("waves", ())
    _demand_once([w["name"] for w in waves], source, "waves", "wave")
    if sum(w["servers"] == "rest" for w in waves) > 1:
        raise FormatError(source, "waves", "two waves take the rest")
    named = [name for w in waves if w["servers"] != "rest" for name in w["servers"]]
    _demand_once(named, source, "waves", "server")
    stranger = next((name for name in named if name not in by_name), None)
    if stranger is not None:
        raise FormatError(source, "waves", f"{stranger} is not in the readings")
    return tuple(
        Wave(
            name=w["name"],
            servers=None if w["servers"] == "rest" else tuple(w["servers"]),
            wait_seconds=exact(w.get("wait_seconds", 0)),
            gate=w.get("gate", "none"),
        )
        for w in waves
    )


def _demand_once(names: Sequence[str], source: str, place: str, what: str) -> None:
    seen: set[str] = set()
    for name in names:
        if name in seen:
            raise FormatError(source, place, f"{what} {name} stands twice")
        seen.add(name)


def _occupied(entry: dict[str, Any], known: Server | None) -> AwayPlace:
    """Who is away already; what is not said of it is taken from its reading (A19)."""
    group = entry.get("group") or (known.group if known else None)
    rack = entry.get("rack") or (known.rack if known else None)
    room = entry.get("room") or (known.room if known else None)
    return AwayPlace(
        server=entry["server"], groups=(group,) if group else (), rack=rack or None, room=room or None, kept=True
    )


def _join(places: Sequence[AwayPlace]) -> tuple[AwayPlace, ...]:
    """Each server once: it counts once in all groups that are named for it."""
    found: dict[str, AwayPlace] = {}
    for place in places:
        known = found.get(place.server, place)
        groups = tuple(dict.fromkeys((*known.groups, *place.groups)))
        rack, room = known.rack or place.rack, known.room or place.room
        found[place.server] = dataclasses.replace(known, groups=groups, rack=rack, room=room)
    return tuple(found.values())


def _span(entry: dict[str, Any], source: str, place: str) -> tuple[datetime.datetime, datetime.datetime]:
    start, end = (read_instant(entry[key], source, f"{place}.{key}") for key in ("start", "end"))
    if end < start:
        raise FormatError(source, place, "the window ends before it starts")
    return start, end


def _since(start: datetime.datetime | None, moment: datetime.datetime) -> float:
    """Seconds from the start, as a multiple of 2**-20 as all others are."""
    return round((moment - (start or moment)).total_seconds() * 2**20) / 2**20
