"""How long what is under way, and what is planned, will still take, by a server's tape. Pure."""

from __future__ import annotations

import datetime

from ordnung.core.sheet import PlannedRound
from ordnung.engine.tape_state import TapeState

USUAL_WRITE_S, USUAL_RESET_S, CHECK_S = 120.0, 300.0, 20.0
"""Of what nothing is known (T1)."""
TELLING = 10
"""From so many percent on the time left is worked out from them."""


def step_under_way(
    state: TapeState, last_at: datetime.datetime, now: datetime.datetime, percent: int | None = None
) -> tuple[str, float]:
    """What can't be cut short now, in words, and how many seconds it will still take; empty and 0 when nothing is.

    Args:
        last_at: when the last entry of the tape was made.
        percent: how far the device says that its write is.
    """
    if state.open_write is not None:
        write, gone = state.open_write.planned.write, (now - last_at).total_seconds()
        return f"writing {write.slot} {write.to}", _left(write.seconds or USUAL_WRITE_S, gone, percent)
    reset = state.open_reset
    if reset is None:
        return "", 0.0
    seconds = (state.current.reset_seconds if state.current is not None else None) or USUAL_RESET_S
    return f"in its {reset.kind}", max(0.0, seconds + CHECK_S - (now - reset.began_at).total_seconds())


def _left(planned: float, gone: float, percent: int | None) -> float:
    if percent is not None and TELLING <= percent <= 100 and gone > 0:
        return gone * (100 - percent) / percent
    return max(0.0, planned - gone)


def round_seconds(step: PlannedRound, written: int = 0) -> float:
    """How long what is left of a round takes by the plan: its writes one after the other, its reset, the reading."""
    writes = sum(planned.write.seconds or USUAL_WRITE_S for planned in step.writes[written:])
    return writes + ((step.reset_seconds or USUAL_RESET_S) + CHECK_S if step.reset is not None else 0.0)


def seconds_left(
    state: TapeState, last_at: datetime.datetime, now: datetime.datetime, percent: int | None = None
) -> float:
    """How many seconds the rounds that are planned will still take; what is not planned yet is not counted."""
    rounds = (state.rounds or ())[state.round :]
    if not rounds or state.ended is not None:
        return 0.0
    _, step_s = step_under_way(state, last_at, now, percent)
    later = sum(round_seconds(step) for step in rounds[1:])
    if state.open_reset is not None:
        return step_s + later
    if state.is_back:
        return CHECK_S + later
    return step_s + round_seconds(rounds[0], state.written + (state.open_write is not None)) + later
