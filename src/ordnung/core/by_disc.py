"""Bringing a server level by a disc in its virtual media: the field kit that starts from it sends the payloads.

The controller is given the disc and told to start from it, the server is rebooted, the kit carries out the route over
as many resets as it takes, and at the end the disc is taken out and the server's own system started. Seen from here
these are two rounds: into the disc, and out of it. Pure.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Sequence

from ordnung.core.route import Write
from ordnung.core.sheet import DiscPart, PlannedRound, PlannedWrite

SLOT = "virtual media"
"""Where the disc goes, among the slots of a server."""
PRODUCT = "disc"
OUT, IN = "disc out", "disc in"
HANDLE_S = 5.0
"""How long it takes to insert a disc and choose it for the next starts."""
USUAL_S = {"controller restart": 120.0, "server reboot": 300.0, "power cycle": 300.0}
"""What a reset of the kit's is taken to last where its releases do not say (T1)."""


def go_by_disc(rounds: Sequence[PlannedRound]) -> tuple[PlannedRound, ...]:
    """The rounds of a route as they go by disc; nothing where there is nothing to write.

    What the kit resets lasts as long as the last write before it: a write by disc is over when its version is active.
    """
    kit = tuple(planned for step in rounds for planned in _by_kit(step))
    if not kit:
        return ()
    active = dict(pair for step in rounds for pair in step.activates)
    start = PlannedRound(writes=(_handled(DiscPart.IN),), reset="server reboot")
    return (start, PlannedRound(writes=(*kit, OUT_WRITE), reset="server reboot", activates=tuple(active.items())))


def take_out(*, is_away: bool) -> PlannedRound:
    """The disc out, and the server's own system started where it may not run."""
    return PlannedRound(writes=(OUT_WRITE,), reset="server reboot" if is_away else None)


def why_not_by_disc(rounds: Iterable[PlannedRound], held: Iterable[str]) -> str:
    """Why a route can't go by a disc that holds the payloads of these sums; empty when it can."""
    sums = set(held)
    for planned in (planned for step in rounds for planned in step.writes):
        slot, to = planned.write.slot, planned.write.to
        if planned.hands_before or planned.hands_after:
            return f"{slot} {to} needs somebody at the server, and nobody answers the kit there"
        if planned.needs_payload and (planned.payload is None or planned.payload.sha256 not in sums):
            return f"{slot} {to} is not on the disc"
    return ""


def is_by_disc(rounds: Iterable[PlannedRound]) -> bool:
    """Whether a server that goes through these rounds is started from a disc."""
    return any(step.starts_disc for step in rounds)


def _by_kit(step: PlannedRound) -> list[PlannedWrite]:
    made = [dataclasses.replace(planned, disc=DiscPart.KIT, ahead=False) for planned in step.writes]
    if made and step.reset is not None:
        last = made[-1]
        reset = step.reset_seconds if step.reset_seconds is not None else USUAL_S.get(step.reset, 0.0)
        seconds = None if last.write.seconds is None else last.write.seconds + reset
        made[-1] = dataclasses.replace(last, write=dataclasses.replace(last.write, seconds=seconds))
    return made


def _handled(part: DiscPart) -> PlannedWrite:
    source, to = (OUT, IN) if part is DiscPart.IN else (IN, OUT)
    write = Write(slot=SLOT, product=PRODUCT, source=source, to=to, seconds=HANDLE_S)
    return PlannedWrite(write=write, payload=None, disc=part)


OUT_WRITE = _handled(DiscPart.OUT)
