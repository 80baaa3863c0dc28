"""The tape of one server in a run: what its entries add up to, and what comes next.

Invariants (the fold raises TapeBrokenError where a tape breaks one):
- an intent is on the tape before anything is sent to the device, its outcome after;
- at most one intent is open; no reset intent while a write is open;
- what a device keeps for a reset is open again after every reset, until it says how that ended;
- no outage without a place: who is away is known over all runs before it goes (``night.md`` T5);
- no outage before its work is moved off, where its group wants that (P1);
- a place is given back only when the server is not away, or after the end by a proof or by a person;
- the state of a server in a run is the fold over its tape: there is no other truth.

An open intent found after a crash, or after a lost answer, is *reconciled* by asking the device.
"""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterable
from enum import StrEnum
from typing import assert_never

from ordnung.core.away import AwayPlace
from ordnung.core.errands import Errand, ErrandKind, hands_after, hands_before
from ordnung.engine.entries import (
    AheadDone,
    Answer,
    Answered,
    Asked,
    Back,
    Confirmed,
    Deferred,
    Ended,
    Entry,
    ErrandAsked,
    ErrandDone,
    ErrandGivenUp,
    LeftBefore,
    PlaceGiven,
    PlaceTaken,
    Plan,
    Question,
    Read,
    ReadWhy,
    Reason,
    Remedied,
    Remedy,
    ResetIntent,
    ResetSeen,
    ResetSent,
    ResetSpared,
    ResetUnsent,
    TapeEntry,
    Troubled,
    Warned,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteSent,
    WriteStaged,
    WriteUnsent,
)
from ordnung.engine.tape_state import OpenErrand, OpenReset, TapeState
from ordnung.engine.tape_writes import after_write, follow_next, still_waiting, was_sent, without_active

MAX_SENDS = 3
"""How often one write or reset that certainly never reached the device is sent again."""
MAX_DEFERRALS = 1
"""How often a server gives its place back because of someone else's job before it is left to a person."""


class TapeBrokenError(ValueError):
    """A tape that breaks an invariant: written by someone else, or by a fault of ours."""


class Step(StrEnum):
    """What comes next with a server."""

    PLACE = "take a place"
    READ = "read"
    PLAN = "plan"
    LET_IN = "let in again"
    MEET = "meet a failure"
    REMEDY = "remedy"
    ERRAND = "errand"
    AHEAD = "ahead done"
    WRITE = "write"
    FIND_WRITE = "find write"
    FOLLOW = "follow"
    RESET = "reset"
    FIND_RESET = "find reset"
    AWAIT = "await"
    CONFIRM = "confirm"
    CHECK = "check"
    NONE = "none"


def fold(entries: Iterable[Entry]) -> TapeState:
    """The state after a tape. Raises TapeBrokenError for a tape that breaks an invariant."""
    state = TapeState()
    for entry in entries:
        state = advance(state, entry)
    return state


def advance(state: TapeState, entry: Entry) -> TapeState:
    """The state after one more entry. Raises TapeBrokenError when the entry doesn't fit."""
    if entry.seq != state.seq + 1:
        raise TapeBrokenError(f"entry {entry.seq} follows entry {state.seq}")
    if not _fits(state, entry.value):
        raise TapeBrokenError(f"entry {entry.seq} ({type(entry.value).__name__}) does not fit the tape")
    return dataclasses.replace(_apply(state, entry.value, entry.at), seq=entry.seq)


def _fits(state: TapeState, value: TapeEntry) -> bool:
    if state.ended is not None:
        return isinstance(value, PlaceGiven) and state.place is not None
    match value:
        case WriteIntent():
            return not state.is_busy and state.open_errand is None
        case WriteSent() | WriteUnsent() | WriteStaged() | WriteDone() | WriteFailed():
            return state.open_write is not None
        case Troubled():
            return not state.is_busy and state.open_errand is None and state.trouble is None
        case Remedied():
            return state.trouble is not None and not state.has_tried(value.remedy) and state.asked is None
        case Asked(question=Question.LET_IN):
            return state.shut_out is None and not state.stays_out
        case Answered(question=Question.LET_IN):
            return state.shut_out is not None
        case Asked(question=Question.TRY_REMEDY):
            return state.trouble is not None and state.asked is None
        case Answered(question=Question.TRY_REMEDY):
            return state.asked is not None
        case ErrandAsked():
            return not state.is_busy and state.open_errand is None
        case ErrandDone() | ErrandGivenUp():
            return state.open_errand is not None
        case ResetIntent():
            placed = not value.kind.is_outage or (state.place is not None and state.place.outage) or not value.type
            free = not value.kind.is_outage or not state.moves.off or state.is_moved_off
            its_turn = state.place is None or not state.place.ahead
            return not state.is_busy and state.open_errand is None and placed and free and its_turn
        case ResetSpared():
            is_due = state.current is not None and state.current.reset == value.kind and not state.is_back
            return is_due and not state.is_busy and state.open_errand is None
        case ResetSent() | ResetSeen() | ResetUnsent() | Back():
            return state.open_reset is not None
        case Asked():
            return state.open_reset is not None and state.open_reset.asked is None
        case Answered():
            return state.open_reset is not None and state.open_reset.question is not None
        case LeftBefore():
            return state.before is None
        case Deferred():
            return not state.is_busy and not state.is_away and not state.is_moved_off
        case AheadDone():
            return not state.is_busy and state.place is not None and state.place.ahead
        case PlaceGiven():
            return False
        case _:
            return True


def _apply(state: TapeState, value: TapeEntry, at: datetime.datetime) -> TapeState:
    change = dataclasses.replace
    match value:
        case Read():
            return _after_reading(state, value)
        case LeftBefore():
            return change(state, waiting=value.writes)
        case Plan():
            moved = -1 if state.is_moved_off else None
            # One that only heals counts neither among those at once nor in its rack: it needs a place anew.
            place = None if state.place is not None and state.place.heals and value.rounds else state.place
            announced = {text for step in value.rounds for planned in step.writes for text in planned.announces}
            return change(
                state, rounds=value.rounds, round=0, written=0, sends=0, is_ignored=False, moved_off_in=moved,
                place=place, restart_due=False, failed_slot="", announced=state.announced | announced,
            )  # fmt: skip
        case PlaceTaken():
            return change(state, place=value.place, moves=value.moves)
        case PlaceGiven():
            return change(state, place=None, is_away=False)
        case Deferred():
            return change(state, place=None, latest=None, rounds=None, deferrals=state.deferrals + 1)
        case AheadDone():
            # Its turn may come hours later: it is read and planned anew then, by what waits in it.
            return change(state, place=None, latest=None, rounds=None, written=0, was_ahead=True)
        case Warned():
            return change(state, warned=state.warned | {(value.check, value.seen)})
        case Troubled() | Remedied():
            return _after_trouble(state, value)
        case Asked(question=Question.LET_IN):
            return change(state, shut_out=value, shut_out_at=at, shut_outs=state.shut_outs + 1)
        case Answered(question=Question.LET_IN):
            return change(state, shut_out=None, shut_out_at=None, stays_out=value.answer is Answer.LEAVE)
        case Asked(question=Question.TRY_REMEDY):
            return change(state, asked=value, asked_at=at)
        case Answered(question=Question.TRY_REMEDY):
            return _after_answer(state, value)
        case ErrandAsked() | ErrandDone() | ErrandGivenUp():
            return _after_errand(state, value, at)
        case WriteIntent() | WriteSent() | WriteUnsent() | WriteStaged() | WriteDone() | WriteFailed():
            return after_write(state, value, at)
        case ResetSpared():
            return change(state, is_back=True, back_at=at, sends=0, waiting=still_waiting(state))
        case ResetIntent() | ResetSent() | ResetSeen() | ResetUnsent() | Asked() | Answered() | Back():
            return _after_reset(state, value, at)
        case Confirmed():
            return _after_confirming(state, value)
        case Ended():
            return change(state, ended=value, place=_kept(state), open_errand=None)
        case _:
            assert_never(value)


def _after_confirming(state: TapeState, value: Confirmed) -> TapeState:
    """The next round; what its device did not take before the reset is read and planned anew."""
    current, anew = state.current, state.is_partly_written
    owed = hands_after(dataclasses.replace(current, writes=current.writes[: state.written])) if current else ()
    starts = current is not None and current.starts_disc
    leaves = current is not None and current.leaves_disc
    return dataclasses.replace(
        state, round=0 if anew else state.round + 1, written=0, is_back=False, back_at=None, is_ignored=False,
        done=(*state.done, *value.versions), is_away=state.is_away and starts, in_disc=state.in_disc and not leaves,
        sends=0, owed=(*state.owed, *owed), was_away=state.was_away or state.is_away,
        is_whole=state.is_whole and not state.is_away, waiting=still_waiting(state),
        rounds=None if anew else state.rounds, latest=None if anew else state.latest,
    )  # fmt: skip


def _kept(state: TapeState) -> AwayPlace | None:
    """The place that a server keeps when it ends: away, with its work elsewhere, or its group not whole again."""
    still_heals = any(errand.kind is ErrandKind.HEALED for errand, _ in state.given_up)
    if state.place is None or not (state.is_away or state.is_moved_off or still_heals):
        return None
    return dataclasses.replace(state.place, kept=True, heals=False)


def _after_trouble(state: TapeState, value: Troubled | Remedied) -> TapeState:
    change = dataclasses.replace
    if isinstance(value, Troubled):
        return change(state, trouble=value, declined=frozenset(), failure=None)
    assert state.trouble is not None
    remedies = (*state.remedies, (value.remedy, state.trouble))
    # Read and planned again: nothing of the round that failed is gone on with.
    return change(
        state, remedies=remedies, trouble=None, latest=None, rounds=None, round=0, written=0, sends=0, is_back=False,
        back_at=None, is_ignored=False, failed_slot="", restart_due=value.remedy is Remedy.RESTART_FIRST,
    )  # fmt: skip


def _after_answer(state: TapeState, value: Answered) -> TapeState:
    change = dataclasses.replace
    assert state.asked is not None
    if value.answer is Answer.TRY:
        return change(state, asked=None, asked_at=None)
    declined = state.declined | {Remedy(state.asked.facts["remedy"])}
    return change(state, asked=None, asked_at=None, declined=declined)


def _after_errand(
    state: TapeState, value: ErrandAsked | ErrandDone | ErrandGivenUp, at: datetime.datetime
) -> TapeState:
    change = dataclasses.replace
    if isinstance(value, ErrandAsked):
        made = OpenErrand(errand=value.errand, of=value.of, seq=state.seq + 1, since=at)
        healing = value.errand.kind is ErrandKind.HEALED and state.place is not None
        place = change(state.place, heals=True, rack=None, room=None) if healing and state.place else state.place
        return change(state, open_errand=made, place=place)
    pending = state.open_errand
    assert pending is not None
    kind = pending.errand.kind
    if isinstance(value, ErrandGivenUp):
        moved = state.round if kind is ErrandKind.MOVE_OFF and value.begun else state.moved_off_in
        given_up = (*state.given_up, (pending.errand, value))
        return change(state, open_errand=None, given_up=given_up, moved_off_in=moved)
    state = change(state, open_errand=None)
    match kind:
        case ErrandKind.MOVE_OFF:
            return change(state, moved_off_in=state.round)
        case ErrandKind.TAKE_BACK:
            return change(state, moved_off_in=None)
        case ErrandKind.HEALED:
            return change(state, is_whole=True)
        case ErrandKind.HANDS_BEFORE | ErrandKind.HANDS_AFTER:
            left = tuple(owed for owed in state.owed if owed != pending.errand)
            return change(state, hands=state.hands | {pending.errand}, owed=left)
        case _:
            assert_never(kind)


def _after_reading(state: TapeState, value: Read) -> TapeState:
    change = dataclasses.replace
    state = without_active(state, value.server)
    match value.why:
        case ReadWhy.BEFORE:
            return change(state, before=state.before or value.server, latest=value.server)
        case ReadWhy.MORE_IS_TOLD | ReadWhy.SHARED_CHANGED:
            return change(state, before=value.server, latest=value.server, rounds=None)
        case ReadWhy.AFTER_ROUND:
            return change(state, latest=value.server)
        case _:
            assert_never(value.why)


def _after_reset(
    state: TapeState,
    value: ResetIntent | ResetSent | ResetSeen | ResetUnsent | Asked | Answered | Back,
    at: datetime.datetime,
) -> TapeState:
    change = dataclasses.replace
    if isinstance(value, ResetIntent):
        made = OpenReset(
            kind=value.kind, type=value.type, marker=value.marker, began_at=at, was_away=state.is_away,
            unshown=value.unshown,
        )  # fmt: skip
        return change(state, open_reset=made, is_away=state.is_away or value.kind.is_outage)
    pending = state.open_reset
    assert pending is not None
    match value:
        case ResetSent():
            return change(state, open_reset=change(pending, sent=True))
        case ResetSeen():
            return change(state, open_reset=change(pending, sent=True, seen=value.evidence, seen_at=at))
        case ResetUnsent():
            ignored = state.is_ignored or value.reason is Reason.RESET_IGNORED
            return change(
                state, open_reset=None, sends=state.sends + was_sent(value), is_away=pending.was_away,
                is_ignored=ignored,
            )  # fmt: skip
        case Asked():
            return change(state, open_reset=change(pending, asked=value, asked_at=at))
        case Answered():
            return change(state, open_reset=change(pending, answer=value.answer))
        case Back():
            back = change(
                state, open_reset=None, is_back=True, back_at=at, sends=0, waiting=still_waiting(state), is_full=False,
                reopened=state.staged, staged=(),
            )  # fmt: skip
            return follow_next(back)
        case _:
            assert_never(value)


def errand_key(run: str | int, server: str, seq: int) -> str:
    """The name under which one errand is asked for, however often: by it whoever does it does it once (P1)."""
    return f"ordnung-{run}-{server}-{seq}"


def next_step(state: TapeState) -> Step:
    """What to do next with a server: a total function of the tape."""
    if state.ended is not None:
        return Step.NONE
    if state.shut_out is not None:
        return Step.LET_IN
    if state.open_write is not None:
        return Step.FOLLOW if state.open_write.sent else Step.FIND_WRITE
    if state.open_reset is not None:
        return Step.AWAIT if state.open_reset.sent else Step.FIND_RESET
    if state.open_errand is not None or state.given_up:
        return Step.ERRAND
    if state.failure is not None:
        return Step.MEET
    if state.trouble is not None:
        return Step.REMEDY
    if state.place is None:
        return Step.PLACE
    if state.before is None or state.latest is None:
        return Step.READ
    if state.rounds is None:
        return Step.PLAN
    if state.place.ahead:
        return Step.WRITE if state.may_write_ahead else Step.AHEAD
    if due_errand(state) is not None:
        return Step.ERRAND
    current = state.current
    if current is None:
        return Step.CHECK
    if state.has_outage_left and not state.place.outage:
        return Step.PLACE
    if not state.has_all_written and not state.is_back:
        return Step.WRITE
    if current.reset is not None and not state.is_back:
        return Step.RESET
    return Step.CONFIRM


def due_errand(state: TapeState) -> Errand | None:
    """What has to be done outside before anything else is done with a server that has its place and its plan.

    Taking back at the end is not among them: the last check comes first (P1).
    """
    if state.owed:
        return state.owed[0]
    current, moves = state.current, state.moves
    if current is None:
        return None
    is_between = state.moved_off_in is not None and state.moved_off_in < state.round
    if moves.between and is_between and not state.in_disc:
        return Errand(kind=ErrandKind.TAKE_BACK)
    before = hands_before(current, state.written) if not (state.is_full or state.is_back) else None
    if before is not None:
        return before if before not in state.hands else None
    # Its disc is not inserted before the reboot that starts it can come.
    is_next_reset = (state.has_all_written or current.starts_disc) and not state.is_back
    if moves.off and not state.is_moved_off and current.is_outage and is_next_reset:
        return Errand(kind=ErrandKind.MOVE_OFF)
    return None
