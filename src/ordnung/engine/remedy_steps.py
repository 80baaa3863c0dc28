"""Remedies: what practised people try when an update fails, before a server is left to a person (N6.5).

Each is tried at most once on a server in a run, as the house lets it: by itself, when a person says so, or never. A
remedy reads and plans again; nothing is ever sent again of which the device has not said that it did not take it.
"""

from __future__ import annotations

from collections.abc import Mapping

from ordnung.core.detours import release_between
from ordnung.core.sheet import payload_of
from ordnung.engine.compare import find_position
from ordnung.engine.entries import (
    Answer,
    Answered,
    Asked,
    Ending,
    Question,
    Reason,
    Remedied,
    Remedy,
    Troubled,
)
from ordnung.engine.hand import Hand
from ordnung.engine.tape_state import TapeState
from ordnung.engine.telling import tell_question, tell_reason
from ordnung.engine.world import Choice
from ordnung.store import RepositoryError

NOT_WRITTEN = (Reason.TASK_FAILED, Reason.TASK_DENIED, Reason.CONTROLLER)
"""The device has said that it did not write it."""
CHECKED = (Reason.CHANGED, Reason.NOT_SHOWN, Reason.NOT_HELD, Reason.GONE_AGAIN)
"""The check after an update has failed, and the server answers."""
SERVES = {
    Remedy.ALONE: NOT_WRITTEN,
    Remedy.RESTART_FIRST: (*NOT_WRITTEN, Reason.NOT_ARRIVED),
    Remedy.BETWEEN: (Reason.TASK_FAILED,),
    Remedy.OTHER_WAY: (Reason.NOT_ARRIVED,),
    Remedy.PUT_BACK: (*NOT_WRITTEN, *CHECKED),
}
UNSEEN = (Remedy.PUT_BACK, Remedy.BETWEEN)
"""What sends something that stands on no sheet."""
ORDER = {Reason.NOT_ARRIVED: (Remedy.OTHER_WAY, Remedy.RESTART_FIRST)}
"""Where another order than that of the list is the practised one."""


def find_remedies(state: TapeState, trouble: Troubled) -> tuple[Remedy, ...]:
    """What may help, in order: what fits the trouble, was not tried on this server, and was not declined for it."""
    if state.in_disc:  # first of all its own system has to run again
        may = not state.is_busy and not state.leaves_disc and Remedy.DISC_OUT not in state.declined
        return (Remedy.DISC_OUT,) if may else ()
    wanted = ORDER.get(trouble.reason, tuple(Remedy))
    return tuple(
        remedy
        for remedy in wanted
        if trouble.reason in SERVES.get(remedy, ())
        and not state.has_tried(remedy)
        and remedy not in state.declined
        and _applies(remedy, state, trouble)
    )


def _applies(remedy: Remedy, state: TapeState, trouble: Troubled) -> bool:
    if state.puts_back or state.leaves_disc or state.before is None:
        return False
    match remedy:
        case Remedy.ALONE:
            return bool(trouble.slot) and state.current is not None and len(state.current.writes) > 1
        case Remedy.PUT_BACK:
            return any(part.slot in state.changed and part.version for part in state.before.components)
        case Remedy.BETWEEN:
            return bool(trouble.slot) and bool(trouble.facts.get("to"))
        case Remedy.RESTART_FIRST:
            return bool(trouble.slot) and not state.is_away
        case Remedy.OTHER_WAY:
            return bool(trouble.way)
        case Remedy.DISC_OUT:
            return False


async def meet(hand: Hand, reason: Reason, facts: Mapping[str, str]) -> None:
    """A step has failed: where there is a remedy it is noted, else the server ends for a person."""
    slot = facts.get("slot", "") if reason is Reason.NOT_ARRIVED else hand.state.failed_slot
    trouble = Troubled(reason=reason, facts=dict(facts), slot=slot, way=hand.state.last_way)
    # What failed as the answer to a question of ours, not to a write, is nothing that a remedy serves.
    is_write = reason is not Reason.CONTROLLER or bool(hand.state.failed_slot) or hand.state.in_disc
    if is_write and _offered(hand, trouble):
        await hand.note(trouble)
    else:
        await hand.end(Ending.FAILED, reason, **facts)


async def meet_failure(hand: Hand) -> None:
    """A write failed, and who saw it did not live to note what becomes of it."""
    failure = hand.state.failure
    assert failure is not None
    await meet(hand, failure.reason, failure.facts)


def _offered(hand: Hand, trouble: Troubled) -> tuple[Remedy, ...]:
    """The remedies that the house does not rule out; what nobody saw is not sent on a sheet that was approved (P4)."""
    return tuple(
        remedy
        for remedy in find_remedies(hand.state, trouble)
        if _choice(hand, remedy, trouble) is not Choice.NEVER
        and not (remedy in UNSEEN and (hand.approved is not None or hand.back is not None))
        and not (remedy is Remedy.PUT_BACK and hand.unattended)  # it could take a reboot, and nobody is there
    )


def _choice(hand: Hand, remedy: Remedy, trouble: Troubled) -> Choice:
    """What the house lets be done with it here: by the model, and by the kinds of what it would touch."""
    server = hand.state.before
    if server is None:
        return hand.world.may_try(remedy, "", ())
    slots = hand.state.changed if remedy is Remedy.PUT_BACK or not trouble.slot else {trouble.slot}
    return hand.world.may_try(remedy, server.model, {part.kind for part in server.components if part.slot in slots})


async def decide(hand: Hand) -> None:
    """Try the first remedy that is left, ask for it, or end for want of one."""
    trouble = hand.state.trouble
    assert trouble is not None
    if hand.state.asked is not None:
        await _wait_for_answer(hand)
        return
    await hand.may_go_on()
    offered = _offered(hand, trouble)
    if Remedy.BETWEEN in offered and not await _is_step_at_hand(hand, trouble):
        offered = tuple(remedy for remedy in offered if remedy is not Remedy.BETWEEN)
    if not offered:
        await hand.end(Ending.FAILED, trouble.reason, **trouble.facts)
    elif _choice(hand, offered[0], trouble) is Choice.AUTOMATIC:
        await hand.note(Remedied(remedy=offered[0]))
    else:
        facts = {"remedy": str(offered[0]), "slot": trouble.slot, "why": tell_reason(trouble.reason, trouble.facts)}
        await hand.note(Asked(question=Question.TRY_REMEDY, facts=facts))


async def _is_step_at_hand(hand: Hand, trouble: Troubled) -> bool:
    """Whether there is a release between whose very bytes are here."""
    if hand.state.latest is None:
        return False
    position = find_position(await hand.world.baseline.locate(hand.state.latest), trouble.slot)
    step = release_between(position, trouble.facts["to"]) if position is not None else None
    payload = payload_of(step, position.match.issue) if step is not None and position is not None else None
    if payload is None:
        return False
    try:
        await hand.world.payloads.find(payload)
    except RepositoryError:
        return False
    return True


async def _wait_for_answer(hand: Hand) -> None:
    asked, since = hand.state.asked, hand.state.asked_at
    assert asked is not None and since is not None
    remedy = Remedy(asked.facts["remedy"])
    while True:
        await hand.show("waiting", tell_question(asked))
        reply = await hand.world.orders.reply(hand.run, hand.name)
        waited = (hand.world.clock.now() - since).total_seconds()
        is_over = waited >= hand.world.patience.answer_s
        is_stopped = await hand.is_stopped()
        if reply is not None or is_over or is_stopped:
            break
        await hand.pause()
    wanted = reply is not None and reply.answer is Answer.TRY
    by = reply.by if reply is not None else "nobody in time"
    answer = Answer.TRY if wanted else Answer.LEAVE
    await hand.note(Answered(question=Question.TRY_REMEDY, answer=answer, by=by))
    if wanted:
        await hand.note(Remedied(remedy=remedy, by=by))
