"""The whole house against its baseline: one call for the command line, the API and the engine."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass, field

from ordnung.core.baseline import Position, locate
from ordnung.core.components import Server
from ordnung.core.drift import Drift, judge_server, signature
from ordnung.core.matching import Catalogs
from ordnung.core.route import Route, plan_route
from ordnung.core.rules import Rule


@dataclass(frozen=True, slots=True)
class Standing:
    """One server with its positions, its drift and its route; equal servers share a signature."""

    server: Server
    positions: tuple[Position, ...]
    drift: tuple[Drift, ...]
    route: Route
    signature: tuple[object, ...]


@dataclass(slots=True)
class Memory:
    """What was worked out for one catalog, rules and day, so that equal servers cost next to nothing."""

    routes: dict[tuple[object, ...], Route] = field(default_factory=dict)
    states: dict[tuple[object, ...], Standing] = field(default_factory=dict)


def assess_fleet(
    servers: Sequence[Server],
    catalogs: Catalogs,
    rules: Sequence[Rule],
    today: datetime.date | None = None,
    memory: Memory | None = None,
) -> tuple[Standing, ...]:
    """Drift and route of every server; a route is worked out once a signature, a state once at all.

    Args:
        today: the day for rules with dates; by default each server's own ``read_at`` (D3).
        memory: kept from an earlier call with the same catalogs, rules and day.
    """
    memory = memory if memory is not None else Memory()
    by_name, by_group = (any(key in rule.where for rule in rules) for key in ("server", "group"))
    standings = []
    for server in servers:
        day = today or (server.read_at.date() if server.read_at else datetime.date.max)
        key = (*_state_key(server), day, server.name if by_name else None, server.group if by_group else None)
        known = memory.states.get(key)
        if known is None:
            known = memory.states[key] = _judge_one(server, catalogs, rules, day, memory.routes)
        standings.append(known if known.server is server else _same_as(known, server))
    return tuple(standings)


def reassess(
    standings: Sequence[Standing], catalogs: Catalogs, rules: Sequence[Rule], today: datetime.date, memory: Memory
) -> tuple[Standing, ...]:
    """The same servers under another baseline: servers that were in one state are judged together."""
    named = {name for rule in rules for name in rule.where.get("server", ())}
    groups = {name for rule in rules for name in rule.where.get("group", ())}
    judged: dict[tuple[object, ...], Standing] = {}
    result = []
    for standing in standings:
        server = standing.server
        key = (
            id(standing.drift) if standing.drift else server.name,
            server.name if server.name in named else None,
            server.group if server.group in groups else None,
        )
        known = judged.get(key)
        if known is None:
            known = judged[key] = _judge_one(server, catalogs, rules, today, memory.routes)
        result.append(known if known.server is server else _same_as(known, server))
    return tuple(result)


def _state_key(server: Server) -> tuple[object, ...]:
    """Everything of a server that drift and route depend on."""
    parts = tuple(
        (
            c.slot,
            c.kind,
            c.software_id,
            c.version,
            c.waiting,
            c.updateable,
            c.origin == "host report",
            c.untold,
            c.by_image,
            c.shared,
            c.pci,
            c.part,
            c.banks,
            c.state,
            c.can_set_up,
        )
        for c in server.components
    )
    return (server.model, parts)


def _same_as(known: Standing, server: Server) -> Standing:
    """The standing of a server in the very state of another: its own components, the same judgement."""
    pairs = zip(server.components, known.positions, strict=True)
    positions = tuple(Position(component, p.match, p.target) for component, p in pairs)
    return Standing(server, positions, known.drift, known.route, known.signature)


def _judge_one(
    server: Server,
    catalogs: Catalogs,
    rules: Sequence[Rule],
    day: datetime.date,
    routes: dict[tuple[object, ...], Route],
) -> Standing:
    positions = locate(server, catalogs, rules, day)
    sign = signature(server.model, positions)
    if sign not in routes:
        routes[sign] = plan_route(positions)
    route = routes[sign]
    reasons = {lost.slot: lost.reason for lost in route.stranded}
    return Standing(server, positions, judge_server(positions, reasons), route, sign)
