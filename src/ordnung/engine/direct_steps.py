"""Steps that send no payload and change the component all the same: intend, ask, and know what became of it.

Each has the same looks before it as a write. What is asked for is the same when it is asked for twice: after a lost
answer it may be asked for again.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from ordnung.controllers import Accepted, ControllerError, LostAnswerError, TaskView
from ordnung.core.baseline import Position
from ordnung.core.checks import Before, Situation
from ordnung.core.sheet import SET_UP, PlannedWrite
from ordnung.engine.compare import find_position, is_same, stands_at
from ordnung.engine.entries import Evidence, Reason, WriteDone, WriteFailed, WriteIntent, WriteSent, WriteUnsent
from ordnung.engine.hand import Hand, is_refusal
from ordnung.engine.own_tasks import find_others
from ordnung.engine.ports import Controller
from ordnung.engine.world import StepFailedError

SWITCH = "switch to its other bank"

Ask = Callable[[Controller], Awaitable[Accepted]]


async def switch_bank(hand: Hand, planned: PlannedWrite) -> None:
    """Have the component start from the bank that holds the version, with the reset of this round (N7.4).

    Raises:
        StepFailedError: a check stops the server, it moved on meanwhile, or no bank of it holds the version any more.
    """
    slot, to = planned.write.slot, planned.write.to

    def ask(position: Position) -> Ask:
        held = next((version for version in position.component.banks if is_same(position, version, to)), None)
        if held is None:
            raise StepFailedError(Reason.NO_BANK, slot=slot, to=to)

        async def choose(controller: Controller) -> Accepted:
            await controller.choose_bank(slot, held)
            return Accepted(finished=True)

        return choose

    await hand.show("staging", f"{slot}: its bank with {to}")
    await _ask_directly(hand, planned, SWITCH, "what its bank holds", ask)


async def set_up(hand: Hand, planned: PlannedWrite) -> None:
    """Set up a blank or damaged partition anew, so that it can be filled (N4.8). What is on it is lost.

    Raises:
        StepFailedError: a check stops the server, or there is something on it meanwhile.
    """

    def ask(position: Position) -> Ask:
        return lambda controller: controller.set_up(position.component.slot)

    await hand.show("staging", f"{planned.write.slot}: {SET_UP}")
    hand.judged = None  # what would be lost is looked at now, not moments ago
    await _ask_directly(hand, planned, SET_UP, "its place in the inventory", ask)


async def _ask_directly(
    hand: Hand, planned: PlannedWrite, way: str, settled_by: str, choose: Callable[[Position], Ask]
) -> None:
    """The looks, the intent, and the request. Cancelled, the intent stays open and is reconciled."""
    write, since = planned.write, hand.world.clock.now()
    while True:
        async with hand.open() as controller:
            server = await hand.read_fresh(controller, write.slot)
            if server is None:
                return
            position = find_position(await hand.world.baseline.locate(server), write.slot)
            if position is None:
                raise StepFailedError(Reason.GONE, slot=write.slot)
            if not stands_at(position, write.source):
                facts = {"source": write.source, "version": position.component.version}
                raise StepFailedError(Reason.MOVED_ON, slot=write.slot, **facts)
            ask = choose(position)
            await heed_checks(hand, Situation(
                server=server, before=Before.WRITE, now=hand.world.clock.now(), write=planned, way=way,
                will_reset=hand.state.has_outage_left, reset=hand.state.next_reset, own_disc=hand.own_disc,
            ))  # fmt: skip
            running = await ask_when_idle(hand, controller, planned, way, ask, settled_by)
            if not running:
                return
        if not await hand.wait_for_others(running, since):
            return


async def ask_when_idle(
    hand: Hand, controller: Controller, planned: PlannedWrite, way: str, ask: Ask, settled_by: str = ""
) -> list[TaskView]:
    """The intent and the request, if nothing runs on the device; a lost answer is left to be reconciled.

    Returns:
        What runs there, so that nothing was sent; empty when it was.

    Raises:
        ControllerError: it was certainly not acted upon.
    """
    async with hand.world.site.controller(hand.endpoint.url):
        tasks = await controller.tasks() or []
        running = find_others(tasks, hand.state)
        if not running:
            known = tuple(task.uri for task in tasks)
            marker = await controller.marker()
            await hand.note(
                WriteIntent(planned=planned, way=way, known_tasks=known, settled_by=settled_by, marker=marker)
            )
            await _ask(hand, controller, ask)
        return running


async def _ask(hand: Hand, controller: Controller, ask: Ask) -> None:
    hand.world.site.writing[hand.endpoint.url], hand.last_words = hand.name, ""
    try:
        taken = await ask(controller)
    except LostAnswerError as error:
        hand.hear(error)
        return  # the intent stays open: the next step asks the device
    except ControllerError as error:
        hand.hear(error)
        await _tell_refusal(hand, error)
        raise
    if taken.finished:
        await hand.note(WriteDone(evidence=Evidence.ANSWER, message=taken.message))
        hand.world.site.writing.pop(hand.endpoint.url, None)
    else:
        await hand.note(WriteSent(task=taken.task, monitor=taken.monitor))


async def _tell_refusal(hand: Hand, error: ControllerError) -> None:
    facts = {"cause": error.cause, "detail": error.detail, "remedy": error.remedy}
    made = WriteFailed if is_refusal(error) else WriteUnsent
    await hand.note(made(reason=Reason.CONTROLLER, facts=facts))


async def heed_checks(hand: Hand, situation: Situation) -> None:
    """Run the checks. Raises StepFailedError when one stops the server."""
    block = await hand.heed(situation)
    if block is not None:
        raise StepFailedError(Reason.CHECK, check=block.check, seen=block.seen, remedy=block.remedy)
