"""What waits for a reset though its controller does not tell so: many list nothing but what runs. Pure."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Iterable

from ordnung.core.components import Component, Server
from ordnung.core.route import Write


def show_waiting(server: Server, written: Iterable[Write]) -> Server:
    """The server with what was written to it as what waits in it (D7).

    Whatever its controller tells goes first, and so does a version that is another than the one it was written over:
    then something has happened since.

    Args:
        written: what no reset since can have made active, each over the version that was read then; the last one of a
            component counts.
    """
    by_slot = {write.slot: write for write in written}
    if not by_slot:
        return server
    return dataclasses.replace(
        server, components=tuple(_shown(part, by_slot.get(part.slot)) for part in server.components)
    )


def _shown(part: Component, write: Write | None) -> Component:
    if write is None or part.has_waiting or part.standing != write.source or part.version == write.to:
        return part
    return dataclasses.replace(part, waiting=write.to)


def still_left(server: Server, written: Collection[Write]) -> tuple[Write, ...]:
    """What of it may wait still, by a reading: what has become active, or was written over since, does not."""
    parts = ((write, server.component(write.slot)) for write in written)
    return tuple(write for write, part in parts if part is None or not part.standing or part.standing == write.source)
