"""The check after: is what was promised there, and is what was there before still there? Pure."""

from __future__ import annotations

from collections.abc import Iterable, Set

from ordnung.core.baseline import Position
from ordnung.core.components import Server
from ordnung.core.versions import is_equal


def is_same(position: Position, seen: str | None, version: str) -> bool:
    """Whether a version seen is the one meant, by the product's scheme (V11)."""
    if seen is None:
        return False
    product = position.product
    if product is None:
        return seen.strip() == version.strip()
    return is_equal(product.scheme, seen, version, product.listed)


def find_position(positions: Iterable[Position], slot: str) -> Position | None:
    """The position of a slot, or None when the component is gone."""
    return next((p for p in positions if p.component.slot == slot), None)


def holds(positions: Iterable[Position], slot: str, version: str) -> bool:
    """Whether a component has a version, active or waiting."""
    position = find_position(positions, slot)
    return position is not None and any(
        is_same(position, seen, version) for seen in (position.component.version, position.component.waiting)
    )


def lacking(positions: Iterable[Position], promised: Iterable[tuple[str, str]]) -> list[str]:
    """What of the promised (slot, version) pairs a reading does not show, in words."""
    missing = []
    for slot, version in promised:
        position = find_position(positions, slot)
        seen = position.component.version if position else "nothing"
        if position is None or not is_same(position, seen, version):
            missing.append(f"{slot} shows {seen}, promised was {version}")
    return missing


def find_surprises(before: Server, after: Server, touched: Set[str]) -> list[str]:
    """Differences nobody asked for: components gone, exchanged, or changed though not touched (N7.3).

    A waiting version that became active by a reset asked for by others is no surprise.
    """
    surprises = []
    for old in before.components:
        new = after.component(old.slot)
        if new is None:
            surprises.append(f"{old.name} in {old.slot} is gone")
        elif new.software_id != old.software_id:
            surprises.append(f"{old.slot} was {old.name}, now it is {new.name}")
        elif old.slot not in touched and new.version not in (old.version, old.waiting):
            surprises.append(f"{old.slot} changed from {old.version} to {new.version} though it was not touched")
    return surprises
