"""After a drive was written its volume may lack it for a while: nothing that is part of it is touched meanwhile."""

from __future__ import annotations

from ordnung.core.checks import find_array_trouble, is_of_array
from ordnung.core.components import Server
from ordnung.engine.hand import Hand


async def waits_for_volume(hand: Hand, server: Server) -> bool:
    """Whether the volumes of a server are to be waited for, after a pause: what this run wrote may have done that.

    One that was in trouble before is for the checks, and so is one that does not become whole within the patience for
    what shows late.
    """
    trouble, now = find_array_trouble(server), hand.world.clock.now()
    if not trouble or not any(is_of_array(server, slot) for slot in hand.state.touched):
        hand.volume_since = None
        return False
    hand.volume_since = hand.volume_since or now
    if (now - hand.volume_since).total_seconds() >= hand.world.patience.version_s:
        return False
    hand.judged = None
    await hand.show("waiting", f"waiting for its volume to be whole: {trouble[0]}")
    await hand.pause(whole=True)
    return True
