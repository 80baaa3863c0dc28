"""What stands in for each other, drives and power supplies: while one is away, none of the others is touched."""

from __future__ import annotations

from ordnung.core.checks import find_array_trouble, find_redundancy_trouble, is_redundant
from ordnung.core.components import Server
from ordnung.engine.hand import Hand


async def waits_for_redundancy(hand: Hand, server: Server, slot: str | None = None) -> bool:
    """Whether what this run has written may be away still, so that others of its kind are needed: then after a pause.

    What was in trouble before is for the checks, and so is what is not back within the patience for what shows late.

    Args:
        slot: what is about to be written; None before a reset, which drives are needed for.
    """
    trouble = find_redundancy_trouble(server, slot) if slot is not None else find_array_trouble(server)
    now = hand.world.clock.now()
    if not trouble or not any(is_redundant(server, touched) for touched in hand.state.touched):
        hand.redundant_since = None
        return False
    hand.redundant_since = hand.redundant_since or now
    if (now - hand.redundant_since).total_seconds() >= hand.world.patience.version_s:
        return False
    hand.judged = None
    await hand.show("waiting", f"waiting for what was written to be back: {trouble[0]}")
    await hand.pause(whole=True)
    return True
