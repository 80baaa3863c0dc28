"""What waits for a reset though its controller does not tell so: many list nothing but what runs. Pure.

Nor is a version that is shown proof of the reset by itself: some tell what was written as what runs, at once.
"""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Collection, Iterable
from dataclasses import dataclass

from ordnung.core.components import EMPTY, Component, Server
from ordnung.core.facts import AT_REST, FIRMWARE_DONE, PASSING, Facts
from ordnung.core.route import Write
from ordnung.core.start_times import UNTOLD_S, is_fresh_start, is_same_start


@dataclass(frozen=True, slots=True, kw_only=True)
class Left(Write):
    """A write whose version waits for a reset, over the version that was read then."""

    seen_old: bool = True
    """Whether a reading since has shown what ran before: another version then is by a reset, whoever asked for it."""
    reset: str = ""
    """What it takes: ``controller restart``, ``power cycle``, or else a start of the server."""
    started: str | None = None
    """When the server was started last, as its controller told when it was written."""
    controller_started: str | None = None
    """When that itself was."""


def show_waiting(server: Server, written: Iterable[Left]) -> Server:
    """The server with what was written to it as what waits in it (D7).

    Whatever its controller tells to be waiting goes first, and so does a version that is another than the one it was
    written over: then something has happened since. What it tells to run and can't yet be is shown as what waits.

    Args:
        written: what no reset since can have made active; the last one of a component counts.
    """
    by_slot = {write.slot: write for write in still_left(server, tuple(written))}
    if not by_slot:
        return server
    return dataclasses.replace(
        server, components=tuple(_shown(part, by_slot.get(part.slot)) for part in server.components)
    )


def _shown(part: Component, write: Left | None) -> Component:
    if write is None or part.has_waiting or not part.standing:
        return part
    if part.standing != write.source:
        part = dataclasses.replace(part, version=write.source)
    return dataclasses.replace(part, waiting=write.to)


def still_left(server: Server, written: Collection[Left], *, surely: bool = False) -> tuple[Left, ...]:
    """What of it may wait still, by a reading: what has become active, or was written over since, does not.

    Args:
        surely: only what is known to wait; where a controller tells nothing of its starts, a version that was shown
            from the first counts as active.
    """
    kept = (_still(write, server, surely=surely) for write in written)
    return tuple(write for write in kept if write is not None)


def _still(write: Left, server: Server, *, surely: bool) -> Left | None:
    part = server.component(write.slot)
    if part is None or not part.standing:
        return write
    if part.standing == write.source:
        return dataclasses.replace(write, seen_old=True)
    if write.seen_old or write.source in EMPTY or part.standing.strip() != write.to.strip():
        return None
    has_started = _has_started(write, server)
    return None if has_started or (has_started is None and surely) else write


def _has_started(write: Left, server: Server) -> bool | None:
    """Whether what a write needs has been started since, and is done with that; None where it is not told."""
    facts = server.facts or Facts()
    if write.reset == "controller restart":
        is_same = is_same_start(write.controller_started, facts.controller_started)
    else:
        is_same = is_same_start(write.started, facts.started)
    if is_same is not False:
        return None if is_same is None else False
    if write.reset == "power cycle":  # any other start is told the same way
        return None
    return write.reset == "controller restart" or not _may_start_still(server, facts)


def _may_start_still(server: Server, facts: Facts) -> bool:
    """Whether its start may not be over: what becomes active by that may not be active yet."""
    if facts.power in PASSING or facts.boot not in AT_REST:
        return True
    if facts.boot not in (None, FIRMWARE_DONE[0]) or server.read_at is None:
        return False
    corrected = server.read_at + datetime.timedelta(seconds=facts.clock_off_s or 0.0)
    # By its clock as it is off now, or was right when that was noted.
    return any(is_fresh_start(facts.started, now, UNTOLD_S) for now in (server.read_at, corrected))
