"""Small makers and servers for core tests, said in few words."""

from __future__ import annotations

import datetime
from typing import Any

from ordnung.core.baseline import Position, locate
from ordnung.core.catalog import Issue, Need, Product, Release
from ordnung.core.components import Component, Server
from ordnung.core.matching import Catalogs
from ordnung.core.route import Route
from ordnung.core.rules import FIXED_RULES, Rule

DAY = datetime.date(2026, 11, 23)
REBOOT, RESTART, POWER, ONCE = "server reboot", "controller restart", "power cycle", "at once"


def release(version: str, activation: str | None = REBOOT, **facts: Any) -> Release:
    """A release; ``needs`` may be given as {"product": "at_least"}."""
    needs = facts.pop("needs", {})
    return Release(
        version=version,
        activation=activation,
        needs=tuple(Need(product=product, at_least=bound) for product, bound in needs.items()),
        write_seconds=facts.pop("write_seconds", 60),
        **facts,
    )


def product(name: str, *releases: Release, kind: str = "bios", scheme: str = "dotted") -> Product:
    """A product that fits by software id equal to its name."""
    return Product(name, name, kind, scheme, ({"software_id": name},), releases)


def component(slot: str, of: str, version: str | None, waiting: str | None = None, **facts: Any) -> Component:
    return Component(slot=slot, kind="bios", name=slot, software_id=of, version=version, waiting=waiting, **facts)


def catalogs(*products: Product) -> Catalogs:
    return Catalogs((Issue(maker="Corvane", catalog="c", issue="1", issued=DAY, products=tuple(products)),))


def positions(
    products: list[Product], components: list[Component], rules: tuple[Rule, ...] = FIXED_RULES
) -> tuple[Position, ...]:
    server = Server(name="s", model="Reed 14", components=tuple(components))
    return locate(server, catalogs(*products), rules, DAY)


def shape(route: Route) -> list[tuple[list[str], str | None]]:
    """A route as ``[(["bios>2.4.1"], "server reboot"), ...]``."""
    return [([f"{w.slot}>{w.to}" for w in r.writes], r.reset) for r in route.rounds]
