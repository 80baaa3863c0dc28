"""What waits for a reset though its controller does not tell so: many list nothing but what runs. Pure."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Sequence

from ordnung.core.baseline import Position
from ordnung.core.route import Write
from ordnung.core.versions import is_equal


def show_waiting(positions: Sequence[Position], written: Collection[Write]) -> tuple[Position, ...]:
    """The positions with what was written to them as what waits (D7).

    Whatever the controller tells goes first, and so does a version that is another than the one it was written over:
    then something has happened since. What is active at once waits for nothing.

    Args:
        written: what was said to be written, and no reset since can have made active.
    """
    by_slot = {write.slot: write for write in written}
    return tuple(_with_waiting(position, by_slot.get(position.component.slot)) for position in positions)


def _with_waiting(position: Position, write: Write | None) -> Position:
    component, product = position.component, position.product
    if write is None or product is None or product.id != write.product or component.has_waiting:
        return position
    release = product.find(write.to)
    if release is not None and release.activation == "at once":
        return position
    if not is_equal(product.scheme, component.standing, write.source, product.listed):
        return position
    return dataclasses.replace(position, component=dataclasses.replace(component, waiting=write.to))
