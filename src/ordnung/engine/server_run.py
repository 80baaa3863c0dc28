"""One server of a run, from the first reading to the last check, one journalled step after the other.

Rules that hold whatever happens:
- the payload's identity is settled against the very component before the intent is written;
- the intent is durable before anything is sent; what was sent is never sent again unless the device
  itself shows that it never arrived;
- one write at a time; no reset before the device says that no write is under way;
- no outage before the site's limits let it begin, and its work is elsewhere where its group wants that;
- reading may be repeated, writing and resetting may not.

Cancelling the coroutine leaves the tape as it is; running it again goes on from there. While tapes can't be written,
nothing is sent, and then it goes on from the tape too (docs/adr/0037-records-out.md).
"""

from __future__ import annotations

import contextlib
from collections.abc import Awaitable, Callable

import structlog

from ordnung.controllers import ControllerError
from ordnung.engine import (
    errand_steps,
    let_in_steps,
    look_steps,
    place_steps,
    reconcile,
    remedy_steps,
    reset_steps,
    write_steps,
)
from ordnung.engine.entries import Ending, Reason
from ordnung.engine.hand import Hand
from ordnung.engine.ports import RecordsOutError
from ordnung.engine.tape import Step, fold, next_step
from ordnung.engine.tape_state import TapeState
from ordnung.engine.world import StepFailedError, StoppedError

log = structlog.get_logger()
STEPS: dict[Step, Callable[[Hand], Awaitable[None]]] = {
    Step.PLACE: place_steps.take_place,
    Step.READ: look_steps.read,
    Step.PLAN: look_steps.plan,
    Step.LET_IN: let_in_steps.wait,
    Step.MEET: remedy_steps.meet_failure,
    Step.REMEDY: remedy_steps.decide,
    Step.ERRAND: errand_steps.carry_on,
    Step.AHEAD: place_steps.leave_ahead,
    Step.WRITE: write_steps.write,
    Step.FIND_WRITE: reconcile.find_write,
    Step.FOLLOW: write_steps.follow,
    Step.RESET: reset_steps.reset,
    Step.FIND_RESET: reset_steps.find_reset,
    Step.AWAIT: reset_steps.await_return,
    Step.CONFIRM: look_steps.confirm,
    Step.CHECK: look_steps.check,
}


async def carry_out(hand: Hand) -> TapeState:
    """Go on from wherever the tape stands until the server has ended; returns the last state.

    Raises:
        TapeConflictError: another engine works on this server.
    """
    try:
        while True:
            try:
                hand.begin_anew(fold(await hand.world.journal.load(hand.run, hand.name)))
                await _go_on(hand)
                break
            except RecordsOutError as error:
                await _wait_for_records(hand, error)
    finally:
        if hand.world.site.writing.get(hand.endpoint.url) == hand.name:
            del hand.world.site.writing[hand.endpoint.url]
    await hand.world.controllers.let_go(hand.endpoint)
    return hand.state


async def _wait_for_records(hand: Hand, error: RecordsOutError) -> None:
    """What stood in memory may not be what is kept: until that can be told, nothing is done, and nobody is to blame."""
    log.warning("what is kept can't be read or written", run=hand.run, server=hand.name, why=str(error))
    with contextlib.suppress(RecordsOutError):
        await hand.show("waiting", f"Ordnung can't keep what it does ({error}); nothing is sent, trying again")
    await hand.pause(whole=True)


async def _go_on(hand: Hand) -> None:
    while (step := next_step(hand.state)) is not Step.NONE:
        try:
            await STEPS[step](hand)
        except StoppedError as order:
            await errand_steps.stop(hand, is_left_out=order.is_left_out)
        except StepFailedError as error:
            await remedy_steps.meet(hand, error.reason, error.facts)
        except ControllerError as error:
            if not await hand.wait_out(error) and not await let_in_steps.ask(hand, error):
                facts = {"cause": error.cause, "detail": error.detail, "remedy": error.remedy}
                await remedy_steps.meet(hand, Reason.CONTROLLER, facts)


async def give_up(hand: Hand, error: Exception) -> None:
    """An error of our own ends this server, marked for a person; its tape is read anew, whatever stood in memory."""
    number = await hand.world.reporter.trouble(hand.run, hand.name, error)
    while True:
        try:
            hand.begin_anew(fold(await hand.world.journal.load(hand.run, hand.name)))
            if hand.state.ended is None:
                await hand.end(Ending.FAILED, Reason.OWN_ERROR, error=type(error).__name__, id=number)
            return
        except RecordsOutError as out:
            await _wait_for_records(hand, out)
