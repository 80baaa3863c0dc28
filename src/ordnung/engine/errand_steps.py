"""What is done outside Ordnung while a server is worked on: asked once, waited for, and told (``night.md`` P1, P3).

Each is an intent and an outcome on the tape. After a crash it is asked again under the same key, by which whoever
does it knows that it is the same. What is not done within the house's patience ends the server; work that was moved
off, or may have been, is asked back first wherever the server stands in service.
"""

from __future__ import annotations

import datetime

from ordnung.core.errands import Errand, ErrandKind, tell_errand
from ordnung.engine.disc_steps import leave
from ordnung.engine.entries import Ending, ErrandAsked, ErrandDone, ErrandGivenUp, Reason
from ordnung.engine.hand import Hand
from ordnung.engine.ports import Help, HelpState
from ordnung.engine.reset_steps import be_safe_to_reset
from ordnung.engine.tape import due_errand, errand_key
from ordnung.engine.tape_state import OpenErrand

WAITS_FOR = {
    ErrandKind.MOVE_OFF: "for its work to be moved off",
    ErrandKind.TAKE_BACK: "for its work to be taken back",
    ErrandKind.HEALED: "for its group to be whole again",
    ErrandKind.HANDS_BEFORE: "for somebody at the server",
    ErrandKind.HANDS_AFTER: "for somebody at the server",
}
LOOK = "Everything up to there is confirmed by reading. Look at the server, and say that the call was seen"
GIVES_UP_ON_STOP = (ErrandKind.MOVE_OFF, ErrandKind.HANDS_BEFORE)
"""What nobody waits for any more once the run is stopped; the others bring the server into a known state."""


async def carry_on(hand: Hand) -> None:
    """The errand that is open or due, or the end for want of one."""
    if hand.state.open_errand is None:
        if hand.state.given_up:
            await _conclude(hand)
            return
        errand = due_errand(hand.state)
        assert errand is not None
        if errand.kind in GIVES_UP_ON_STOP:
            await hand.may_go_on()
        if errand.kind is ErrandKind.MOVE_OFF:
            await be_safe_to_reset(hand)
        await _do(hand, errand)
    else:
        # It was asked by an earlier life of the engine: whether it was begun is not known.
        await _wait(hand, begun=True)


async def stop(hand: Hand, *, is_left_out: bool) -> None:
    """A person ends it here while nothing is under way on this server: its work comes back first.

    Left out is only who was not begun with; one that has begun since it was ordered is stopped.
    """
    state = hand.state
    if state.in_disc and not state.leaves_disc:
        await leave(hand, Reason.STOPPED)
    elif is_left_out and not (state.was_sent_to or state.is_away or state.moved_off_in is not None):
        await hand.end(Ending.LEFT_OUT, Reason.LEFT_OUT)
    elif not state.is_moved_off or await _do(hand, Errand(kind=ErrandKind.TAKE_BACK)):
        await hand.end(Ending.STOPPED, Reason.STOPPED)


async def bring_home(hand: Hand) -> bool:
    """After the last check: the work is taken back, and the group is asked whether it is whole again.

    Returns:
        Whether both are done; where not, what was given up stands on the tape and ends the server.
    """
    if hand.state.is_moved_off and not await _do(hand, Errand(kind=ErrandKind.TAKE_BACK)):
        return False
    if hand.state.moves.healed and hand.state.was_away and not hand.state.is_whole:
        return await _do(hand, Errand(kind=ErrandKind.HEALED))
    return True


async def _do(hand: Hand, errand: Errand) -> bool:
    given_up = len(hand.state.given_up)
    of = await hand.world.helpers.helper(hand.run, hand.name, errand)
    await hand.note(ErrandAsked(errand=errand, of=of))
    await _wait(hand, begun=False)
    return len(hand.state.given_up) == given_up


async def _wait(hand: Hand, *, begun: bool) -> None:
    """Until it is done, or given up; ``begun``: whether it may have been begun by now.

    The patience counts from here: while the engine was gone, nobody could have told it anything.
    """
    pending = hand.state.open_errand
    assert pending is not None
    kind, since = pending.errand.kind, hand.world.clock.now()
    while True:
        key = errand_key(hand.run, hand.name, pending.seq)
        found = await hand.world.helpers.ask(hand.run, hand.name, pending.errand, key)
        if found.state is HelpState.DONE:
            await hand.note(ErrandDone(by=found.by, note=found.note))
            return
        if found.state is not HelpState.SILENT:
            begun = found.state is HelpState.PENDING
        why = _why_over(hand, pending, found, since)
        stopped = kind in GIVES_UP_ON_STOP and await hand.is_stopped()
        if why or stopped:
            # A person who has not ticked has not begun; a hook that has not refused may have.
            begun = begun and bool(pending.of)
            await hand.note(ErrandGivenUp(why=why or "the run was stopped", begun=begun, stopped=stopped))
            return
        await hand.show("waiting", f"{WAITS_FOR[kind]}{_told(found)}")
        await hand.pause()


def _why_over(hand: Hand, pending: OpenErrand, found: Help, since: datetime.datetime) -> str:
    waited, patience = (hand.world.clock.now() - since).total_seconds(), hand.world.patience
    limit = patience.heal_s if pending.errand.kind is ErrandKind.HEALED else patience.errand_s
    if waited < limit:
        return ""
    minutes = round(limit / 60)
    if not pending.of:
        return f"Nobody ticked it within {minutes} min"
    return f"{found.note or 'it did not say that it was done'}, after {minutes} min"


def _told(found: Help) -> str:
    return f": {found.note}" if found.note else ""


async def _conclude(hand: Hand) -> None:
    """The end of a server for which something was not done outside."""
    state = hand.state
    kinds = [errand.kind for errand, _ in state.given_up]
    errand, told = state.given_up[0]
    may_return = not state.is_away and errand.kind is not ErrandKind.HANDS_AFTER
    if state.is_moved_off and may_return and ErrandKind.TAKE_BACK not in kinds:
        await _do(hand, Errand(kind=ErrandKind.TAKE_BACK))
        return
    facts = {"why": told.why, "what": tell_errand(errand, hand.name)}
    if ErrandKind.TAKE_BACK in kinds:
        why = state.given_up[kinds.index(ErrandKind.TAKE_BACK)][1].why
        await hand.end(Ending.FAILED, Reason.NOT_TAKEN_BACK, why=why)
    elif told.stopped:
        await hand.end(Ending.STOPPED, Reason.STOPPED)
    elif errand.kind is ErrandKind.HEALED:
        await hand.end(Ending.FAILED, Reason.NOT_HEALED, **facts)
    elif errand.kind is ErrandKind.HANDS_AFTER:
        await hand.end(Ending.FAILED, Reason.NO_HANDS, **facts, sent=LOOK)
    else:
        reason = Reason.NOT_MOVED_OFF if errand.kind is ErrandKind.MOVE_OFF else Reason.NO_HANDS
        sent = "Nothing more was sent" if state.was_sent_to else "Nothing was sent"
        if reason is Reason.NO_HANDS:
            sent += ". Have somebody there and plan it again"
        await hand.end(Ending.STOPPED if state.was_sent_to else Ending.LEFT_OVER, reason, **facts, sent=sent)
