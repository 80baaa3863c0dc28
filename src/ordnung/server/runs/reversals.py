"""What the updates of a sheet can be taken back to once it is done: told before it is started (N7.1)."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.assessment import Standing
from ordnung.core.route import Write
from ordnung.core.way_back import after_updates
from ordnung.engine.compare import find_position
from ordnung.engine.entry_codec import parse_rounds
from ordnung.server.assessment.current import current_assessment
from ordnung.server.runs.models import RunServer
from ordnung.server.runs.way_back import BackCost, cost_of_back, way_back_version


@dataclass(frozen=True, slots=True, kw_only=True)
class Reversal:
    """What one update of a sheet could be taken back to once the sheet is done: the nearest version that the floors on
    its way let through, at what cost. ``cost`` None: there is none, which is said of it.
    """

    slot: str
    name: str
    before: str
    to: str
    sha256: str
    cost: BackCost | None


def list_reversals(place: RunServer) -> list[Reversal]:
    """For each component that a lane updates, its way back afterwards; empty for a server without readings."""
    standing = current_assessment().standings.get(place.server.name)
    if standing is None:
        return []
    empty = {p.component.slot for p in standing.positions if p.component.is_empty}  # nothing to go back to
    planned = [p.write for step in parse_rounds(place.rounds) for p in step.writes]
    writes = [write for write in planned if write.slot not in empty]
    after = dataclasses.replace(
        standing, positions=after_updates(standing.positions, {write.slot: write.to for write in writes})
    )
    return [_reversal(standing, after, slot, [w.to for w in writes if w.slot == slot]) for slot in _slots_of(writes)]


def _slots_of(writes: Sequence[Write]) -> list[str]:
    return list(dict.fromkeys(write.slot for write in writes))


def _reversal(standing: Standing, after: Standing, slot: str, passed: Sequence[str]) -> Reversal:
    position = find_position(standing.positions, slot)
    before = position.component.version if position is not None else None
    to = way_back_version(after, slot, before, passed)
    name = slot if position is None else position.product.name if position.product else position.component.name
    release = position.product.find(to) if position is not None and position.product is not None and to else None
    return Reversal(
        slot=slot,
        name=name,
        before=before or "",
        to=to or "",
        sha256=release.payload.sha256 if release is not None and release.payload else "",
        cost=cost_of_back(after, slot, to) if to else None,
    )
