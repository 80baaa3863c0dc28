"""Leaving reboots to whenever they come (``night.md`` P5): what of a route may be done so. Pure."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Sequence

from ordnung.core.components import Server
from ordnung.core.sheet import PlannedRound, PlannedWrite


def leave_reboots(
    rounds: Sequence[PlannedRound], written: Collection[tuple[str, str]] = frozenset()
) -> tuple[PlannedRound, ...]:
    """The rounds of a route without its outages: what is done in service, then what waits for the first reboot.

    The first round that a reboot ends is written without it, if all of it waits for that and needs nobody at the
    server; what comes after depends on it and is left. No power cycle comes by itself: nothing is written for one.

    Args:
        written: (slot, version) of what was written already: not every controller shows that it waits.
    """
    kept: list[PlannedRound] = []
    for step in rounds:
        if not step.is_outage:
            kept.append(step)
            continue
        if step.reset == "server reboot" and all(map(_bears_waiting, step.writes)):
            writes = tuple(p for p in step.writes if (p.write.slot, p.write.to) not in written)
            if writes:
                kept.append(dataclasses.replace(step, writes=writes, reset=None, reset_seconds=None, activates=()))
        break
    return tuple(kept)


def _bears_waiting(planned: PlannedWrite) -> bool:
    return planned.ahead and not (planned.hands_before or planned.hands_after)


def tell_waiting(server: Server) -> tuple[str, ...]:
    """What of a server waits for a reboot, ``slot version``."""
    return tuple(sorted(f"{part.slot} {part.waiting}" for part in server.components if part.has_waiting))
