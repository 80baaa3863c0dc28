"""What a very old server will probably be able to take once its controller is updated (N1.3): so that it is packed
beforehand. Pure; a guess, and used for nothing but packing: what is written follows from the next reading.
"""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterable, Sequence

from ordnung.core.assessment import Standing, assess_fleet
from ordnung.core.baseline import Position
from ordnung.core.catalog import Product
from ordnung.core.components import Component, Server
from ordnung.core.matching import Catalogs
from ordnung.core.rules import Rule


def foreseen(
    standings: Iterable[Standing], catalogs: Catalogs, rules: Sequence[Rule], today: datetime.date | None
) -> tuple[Standing, ...]:
    """Standings of the servers that take nothing but their controller's own image now, as they will be after it."""
    later = [foresee(standing.server, standing.positions, catalogs) for standing in standings]
    return assess_fleet([server for server in later if server is not None], catalogs, rules, today)


def foresee(server: Server, positions: Sequence[Position], catalogs: Catalogs) -> Server | None:
    """The server once its controller is at its target, or None when it is not one of those or nothing changes."""
    facts = server.facts
    if facts is None or facts.push != "own" or facts.pulls:
        return None
    own = next((p for p in positions if p.component.kind == "controller" and p.target is not None), None)
    if own is None or own.target is None or own.target.held or own.target.version is None:
        return None
    parts = [
        dataclasses.replace(p.component, version=own.target.version, waiting=None)
        if p is own
        else _opened(server.model, p, catalogs)
        for p in positions
    ]
    return dataclasses.replace(server, components=tuple(parts))


def _opened(model: str, position: Position, catalogs: Catalogs) -> Component:
    component = position.component
    if component.updateable is not False or component.state is not None:
        return component
    software_id = component.software_id
    if position.product is None and software_id is None:
        software_id = _guess(model, component, catalogs)
    return dataclasses.replace(component, updateable=True, software_id=software_id)


def _guess(model: str, component: Component, catalogs: Catalogs) -> str | None:
    """The software id that the one product has which the component may be: by kind, version and what it does tell."""
    found: dict[str, str] = {}
    for issue in catalogs.for_model(model):
        for product in issue.products:
            if catalogs.owners.get(product.id) != issue.maker or not _may_be(product, component):
                continue
            for entry in product.fits:
                if "software_id" in entry:
                    found[product.id] = entry["software_id"]
    return next(iter(found.values())) if len(found) == 1 else None


def _may_be(product: Product, component: Component) -> bool:
    is_known = component.version is not None and product.find(component.version) is not None
    return product.kind == component.kind and is_known and any(_agrees(e, component) for e in product.fits)


def _agrees(entry: dict[str, str], component: Component) -> bool:
    facts = {"pci": component.pci, "part": component.part}
    return all(facts.get(key) in (None, pattern) or "*" in pattern for key, pattern in entry.items() if key in facts)
