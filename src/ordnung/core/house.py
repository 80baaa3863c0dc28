"""The whole house against its baseline: one call for the command line, the API and the engine."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.baseline import Position, locate
from ordnung.core.catalog import Catalogs
from ordnung.core.components import Server
from ordnung.core.drift import Drift, judge_server, signature
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


def judge_house(
    servers: Sequence[Server], catalogs: Catalogs, rules: Sequence[Rule], today: datetime.date | None = None
) -> tuple[Standing, ...]:
    """Drift and route of every server; a route is worked out once a signature.

    Args:
        today: the day for rules with dates; by default each server's own ``read_at`` (D3).
    """
    routes: dict[tuple[object, ...], Route] = {}
    standings = []
    for server in servers:
        day = today or (server.read_at.date() if server.read_at else datetime.date.max)
        positions = locate(server, catalogs, rules, day)
        sign = signature(server.model, positions)
        if sign not in routes:
            routes[sign] = plan_route(positions)
        route = routes[sign]
        reasons = {lost.slot: lost.reason for lost in route.stranded}
        standings.append(Standing(server, positions, judge_server(positions, reasons), route, sign))
    return tuple(standings)
