"""A controller that doesn't let us in any more, in the middle of its run: a person settles that, and it goes on.

With its new image a controller may make its certificate anew, take its accounts back to what it was delivered with, or
come back at another address. None of that is for a program to accept: nothing is sent, a person is called, and the run
waits as it stands. What is accepted and entered meanwhile is taken as soon as it is there, wherever it was entered, and
proved by a reading of this very server (docs/adr/0043-let-in-again.md).
"""

from __future__ import annotations

from ordnung.controllers import ControllerError, Endpoint
from ordnung.engine.entries import Answer, Answered, Asked, Question, Reason
from ordnung.engine.hand import Hand, is_lasting
from ordnung.engine.ports import KnownAccess
from ordnung.engine.tape_state import TapeState
from ordnung.engine.telling import tell_question
from ordnung.engine.world import SETTLED_BY_PEOPLE, STRANGE, StepFailedError

MOST_ASKED = 8
"""How often it is asked for on one server in one run: what comes and goes by itself is not settled by asking."""


async def ask(hand: Hand, error: ControllerError) -> bool:
    """Keep what is in the way where people see it, and ask for it to be settled if anything was begun on the server.

    Returns:
        Whether it is waited for.
    """
    if error.cause not in SETTLED_BY_PEOPLE:
        return False
    await hand.world.access.keep_out(hand.name, error)
    known = await hand.world.access.known(hand.name)
    is_over = hand.state.stays_out or hand.state.shut_outs >= MOST_ASKED
    if known is None or is_over or not _is_unfinished(hand.state):
        return False
    facts = {"cause": error.cause, "detail": error.detail, "remedy": error.remedy}
    hand.refused = known.mark if known.endpoint == hand.endpoint else None
    await hand.note(Asked(question=Question.LET_IN, facts=facts))
    return True


def _is_unfinished(state: TapeState) -> bool:
    """Whether it would be left half done: of one that was not begun with nothing is lost by planning it anew."""
    return state.was_sent_to or state.is_busy or state.is_away or state.is_moved_off


async def wait(hand: Hand) -> None:
    """Until it can be read again.

    Raises:
        StepFailedError: somebody gives it up, or nobody has settled it in time.
    """
    asked, since = hand.state.shut_out, hand.state.shut_out_at
    assert asked is not None and since is not None
    cause, looked_at = asked.facts["cause"], since
    while True:
        await hand.show("waiting", tell_question(asked))
        is_due = (hand.world.clock.now() - looked_at).total_seconds() >= hand.world.patience.whole_s
        if is_due:
            looked_at = hand.world.clock.now()
        if await _is_let_in(hand, cause, again=is_due and cause in STRANGE):
            return
        reply = await hand.world.orders.reply(hand.run, hand.name)
        is_over = (hand.world.clock.now() - since).total_seconds() >= hand.world.patience.answer_s
        by = "nobody in time" if is_over else "a stop" if await hand.is_stopped() else ""
        if reply is not None and reply.answer is Answer.LEAVE:
            by = reply.by
        if by:
            await hand.note(Answered(question=Question.LET_IN, answer=Answer.LEAVE, by=by))
            raise StepFailedError(Reason.CONTROLLER, **asked.facts)
        await hand.pause()


async def _is_let_in(hand: Hand, cause: str, *, again: bool) -> bool:
    """Whether what is known by now opens it, and it is this server that answers.

    By what was refused it is not tried again: each refused sign-in counts towards locking the account, and to whom is
    known for another server no password is sent unasked.

    Args:
        again: it is, since nothing is sent before the certificate is known, and its own may only be loaded late.

    Raises:
        ControllerError: what was asked for is settled, and something else is in the way.
    """
    known = await hand.world.access.known(hand.name)
    if known is None or not (again or known.mark != hand.refused):
        return False
    is_new = known.mark != hand.refused
    try:
        async with hand.world.controllers.open(known.endpoint) as controller:
            server, pin = await hand.read(controller)
    except ControllerError as error:
        if is_lasting(error) and error.cause != cause:
            await _settle(hand, known, is_new=is_new)
            raise
        if is_lasting(error) and is_new:
            hand.refused = known.mark
            await hand.world.access.keep_out(hand.name, error)
        return False
    await _settle(hand, known, is_new=is_new)
    await hand.world.reporter.reading(hand.run, server, pin)
    return True


async def _settle(hand: Hand, known: KnownAccess, *, is_new: bool) -> None:
    by = await hand.world.access.settled_by(hand.name) or "somebody" if is_new else "its controller"
    await _go_by(hand, known.endpoint)
    await hand.note(Answered(question=Question.LET_IN, answer=Answer.SETTLED, by=by))


async def _go_by(hand: Hand, known: Endpoint) -> None:
    """From now on it is spoken to like this; whatever was known of the line before is of no use."""
    before, hand.endpoint = hand.endpoint, known
    if hand.world.site.writing.get(before.url) == hand.name:
        del hand.world.site.writing[before.url]
    hand.begin_anew(hand.state)
    if before != known:
        await hand.world.controllers.let_go(before)
