"""Where each component of a server stands: its product and the target the baseline sets."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from ordnung.core.catalog import Product
from ordnung.core.components import Component, Server
from ordnung.core.matching import Catalogs, Match
from ordnung.core.rules import Rule, Target, decide_target


@dataclass(frozen=True, slots=True)
class Position:
    """One component against the baseline. ``target`` is None when no product was found."""

    component: Component
    match: Match
    target: Target | None

    @property
    def product(self) -> Product | None:
        """The product, or None when the component is unlisted."""
        return self.match.product


def locate(server: Server, catalogs: Catalogs, rules: Sequence[Rule], today: datetime.date) -> tuple[Position, ...]:
    """Match every component of a server and choose its target (D1 to D6)."""
    decided: dict[str, Position] = {}
    return tuple(
        position_of(server, c, catalogs, rules, today, decided, name=server.name, group=server.group)
        for c in server.components
    )


def position_of(
    server: Server,
    component: Component,
    catalogs: Catalogs,
    rules: Sequence[Rule],
    today: datetime.date,
    decided: dict[str, Position],
    *,
    name: str,
    group: str | None,
) -> Position:
    """Where one component stands; ``decided`` keeps one position per product, whose target holds for all of it (D4)."""
    match = catalogs.match(server.model, component)
    if match.product is None:
        return Position(component, match, None)
    known = decided.get(match.product.id)
    if known is None or known.match.product is not match.product:
        own = server if (server.name, server.group) == (name, group) else replace(server, name=name, group=group)
        known = Position(component, match, decide_target(own, match.product, rules, today))
        decided[match.product.id] = known
    return Position(component, match, known.target)


def leave_out(positions: Sequence[Position], reasons: Mapping[str, str]) -> tuple[Position, ...]:
    """The same positions with the named slots held for this once, each by its reason."""
    return tuple(
        replace(p, target=Target(version=None, held=True, reason=f"taken out: {reasons[p.component.slot]}"))
        if p.component.slot in reasons and p.product is not None
        else p
        for p in positions
    )
