"""What a write's entries add up to: what is open, what its device keeps for a reset, and what waits in it. Pure."""

from __future__ import annotations

import dataclasses
import datetime
from typing import assert_never

from ordnung.core.components import Server
from ordnung.core.route import Write
from ordnung.core.sheet import DiscPart, PlannedWrite
from ordnung.core.waiting import Left, still_left
from ordnung.engine.entries import (
    Reason,
    ResetUnsent,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteSent,
    WriteStaged,
    WriteUnsent,
)
from ordnung.engine.tape_state import OpenWrite, TapeState


def without_active(state: TapeState, server: Server) -> TapeState:
    """Nothing waits any more that a reading shows to be active: it may be by a reset of somebody else's."""
    runs = {(part.slot, part.version) for part in server.components}
    staged = tuple(o for o in state.staged if (o.planned.write.slot, o.planned.write.to) not in runs)
    waiting = still_left(server, state.waiting)
    return dataclasses.replace(state, waiting=waiting, staged=staged, is_full=state.is_full and bool(staged))


def was_sent(unsent: WriteUnsent | ResetUnsent) -> bool:
    """Whether it counts as a try: what a busy controller put off was asked, and the patience for contact bounds it."""
    return unsent.facts.get("cause") != "busy"


def after_write(
    state: TapeState,
    value: WriteIntent | WriteSent | WriteUnsent | WriteStaged | WriteDone | WriteFailed,
    at: datetime.datetime,
) -> TapeState:
    """The state after one more entry of a write."""
    change = dataclasses.replace
    match value:
        case WriteIntent():
            made = OpenWrite(
                planned=value.planned,
                way=value.way,
                known_tasks=value.known_tasks,
                marker=value.marker,
                began_at=at,
                target=value.target,
                at_reset=value.at_reset,
            )
            part, slot = value.planned.disc, value.planned.write.slot
            return change(
                state, open_write=made, last_way=value.way, failure=None, in_disc=state.in_disc or part is DiscPart.IN,
                left_to_kit=state.left_to_kit | ({slot} if part is DiscPart.KIT else set()),
            )  # fmt: skip
        case WriteSent():
            assert state.open_write is not None
            sent = change(state.open_write, sent=True, task=value.task, monitor=value.monitor)
            return change(state, open_write=sent)
        case WriteUnsent(reason=Reason.NO_TARGETS, facts=facts):
            # Planned anew from a fresh reading, by what can be written without naming it.
            told = facts.get("controller", "")
            return follow_next(change(state, no_targets_at=told, latest=None, rounds=None, written=0))
        case WriteUnsent():
            is_full = _is_full(state, value)
            sends = state.sends + was_sent(value)
            return follow_next(change(state, sends=0 if is_full else sends, is_full=is_full))
        case WriteStaged():
            return _after_staging(state)
        case WriteDone():
            assert state.open_write is not None
            planned = state.open_write.planned
            said = state.said_written | {(planned.write.slot, planned.write.to)}
            if state.open_write.was_staged:
                return follow_next(change(state, said_written=said, sends=0))
            return change(
                state, open_write=None, written=state.written + 1, sends=0, said_written=said,
                waiting=_with_waiting(state, planned),
            )  # fmt: skip
        case WriteFailed():
            assert state.open_write is not None
            write = state.open_write.planned.write
            shown = {(write.slot, write.to)} if value.reason is Reason.TASK_DENIED else set()
            said = state.said_written | shown
            waiting = tuple(other for other in state.waiting if (other.slot, other.to) != (write.slot, write.to))
            if shown:  # as active, too: it may be told so before the reset
                waiting = _with_waiting(state, state.open_write.planned)
            failed = change(state, failed_slot=write.slot, failure=value, said_written=said, waiting=waiting)
            return follow_next(failed)
        case _:
            assert_never(value)


def _is_full(state: TapeState, unsent: WriteUnsent) -> bool:
    """Whether its device puts a write off because of what it keeps for the reset, and one comes (P5: whenever)."""
    current = state.current
    comes = current is not None and (current.reset is not None or not current.activates)
    return unsent.facts.get("cause") == "busy" and bool(state.staged) and comes


def _after_staging(state: TapeState) -> TapeState:
    """Its device has it: the next write, or the reset, may come. One that a reset did not write waits for another."""
    kept = state.open_write
    assert kept is not None
    change = dataclasses.replace
    written = state.written if kept.was_staged else state.written + 1
    staged = (*state.staged, change(kept, was_staged=True))
    waits = change(state, staged=staged, written=written, sends=0, waiting=_with_waiting(state, kept.planned))
    return follow_next(waits)


def follow_next(state: TapeState) -> TapeState:
    """What is followed next of what the reset was to write; nothing in most rounds."""
    return dataclasses.replace(
        state, open_write=state.reopened[0] if state.reopened else None, reopened=state.reopened[1:]
    )


def _with_waiting(state: TapeState, planned: PlannedWrite) -> tuple[Left, ...]:
    """What waits once a write is done, over the version as its device spells it: the last one of each component."""
    others = tuple(write for write in state.waiting if write.slot != planned.write.slot)
    if not planned.is_update or planned.disc is not None or planned.at_once:
        return others
    part = state.latest.component(planned.write.slot) if state.latest is not None else None
    over = part.standing if part is not None else planned.write.source
    return (*others, _left(state, planned.write, over))


def _left(state: TapeState, write: Write, over: str) -> Left:
    """What waits from now on; whether a reading shows it as running already is not known yet."""
    marker = state.open_write.marker if state.open_write is not None else None
    return Left(
        slot=write.slot, product=write.product, source=over, to=write.to, seconds=write.seconds, seen_old=False,
        reset=state.next_reset or "", started=marker.system if marker is not None else None,
        controller_started=marker.controller if marker is not None else None,
    )  # fmt: skip


def still_waiting(state: TapeState) -> tuple[Left, ...]:
    """What waits still once the round's reset is over, or nothing needs one."""
    active = {slot for slot, _ in state.promised}
    return tuple(write for write in state.waiting if write.slot not in active)
