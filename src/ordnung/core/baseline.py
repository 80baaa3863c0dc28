"""Where each component of a server stands: its product and the target the baseline sets."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.catalog import Catalogs, Match, Product
from ordnung.core.components import Component, Server
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
    positions = []
    for component in server.components:
        match = catalogs.match(server.model, component)
        target = decide_target(server, match.product, rules, today) if match.product else None
        positions.append(Position(component, match, target))
    return tuple(positions)


@dataclass(frozen=True, slots=True, kw_only=True)
class BaselineLine:
    """What the baseline says of one product, and where it is fitted."""

    product: Product
    target: Target
    issue: str
    fitted: int
    servers: tuple[str, ...]


def list_baseline(
    servers: Sequence[Server], catalogs: Catalogs, rules: Sequence[Rule], today: datetime.date
) -> tuple[BaselineLine, ...]:
    """The resulting list: a line per product and target, in order of product name."""
    lines: dict[tuple[str, str | None, bool], list[tuple[Server, Position]]] = {}
    for server in servers:
        for position in locate(server, catalogs, rules, today):
            if position.product is not None and position.target is not None:
                key = (position.product.id, position.target.version, position.target.held)
                lines.setdefault(key, []).append((server, position))
    result = [_line(found) for found in lines.values()]
    return tuple(sorted(result, key=lambda line: (line.product.name, line.target.version or "")))


def _line(found: list[tuple[Server, Position]]) -> BaselineLine:
    position = found[0][1]
    assert position.product is not None and position.target is not None
    return BaselineLine(
        product=position.product,
        target=position.target,
        issue=position.match.issue.issue if position.match.issue else "",
        fitted=len(found),
        servers=tuple(sorted({server.name for server, _ in found})),
    )
