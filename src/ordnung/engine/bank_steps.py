"""Switching a component to its other bank instead of writing (N7.4): intend, ask, and know what became of it.

It is a step like a write, with the same looks before it. Asked for twice it is the same: after a lost answer it may be
asked for again.
"""

from __future__ import annotations

from ordnung.controllers import ControllerError, LostAnswerError
from ordnung.core.checks import Before, Situation
from ordnung.core.sheet import PlannedWrite
from ordnung.engine.compare import find_position, is_same
from ordnung.engine.entries import Evidence, Reason, WriteDone, WriteFailed, WriteIntent, WriteUnsent
from ordnung.engine.hand import Hand, is_lasting
from ordnung.engine.world import StepFailedError

WAY = "switch to its other bank"


async def switch_bank(hand: Hand, planned: PlannedWrite) -> None:
    """Have the component start from the bank that holds the version, with the reset of this round.

    Raises:
        StepFailedError: a check stops the server, it moved on meanwhile, or no bank of it holds the version any more.
    """
    slot, to = planned.write.slot, planned.write.to
    await hand.show("staging", f"{slot}: its bank with {to}")
    since = hand.world.clock.now()
    while True:
        async with hand.open() as controller:
            server = await hand.read_fresh(controller)
            position = find_position(await hand.world.baseline.locate(server), slot)
            if position is None:
                raise StepFailedError(Reason.GONE, slot=slot)
            component = position.component
            if not is_same(position, component.version, planned.write.source):
                facts = {"source": planned.write.source, "version": component.version}
                raise StepFailedError(Reason.MOVED_ON, slot=slot, **facts)
            held = next((version for version in component.banks if is_same(position, version, to)), None)
            if held is None:
                raise StepFailedError(Reason.NO_BANK, slot=slot, to=to)
            await _heed_checks(hand, Situation(
                server=server, before=Before.WRITE, now=hand.world.clock.now(), will_reset=hand.state.has_outage_left,
            ))  # fmt: skip
            async with hand.world.site.controller(hand.endpoint.url):
                tasks = await controller.tasks() or []
                running = [task for task in tasks if task.is_running]
                if not running:
                    known = tuple(task.uri for task in tasks)
                    intent = WriteIntent(planned=planned, way=WAY, known_tasks=known, settled_by="what its bank holds")
                    await hand.note(intent)
                    try:
                        await controller.choose_bank(slot, held)
                    except LostAnswerError:
                        return  # the intent stays open: the next step looks which bank is chosen
                    except ControllerError as error:
                        await _tell_refusal(hand, error)
                        raise
                    await hand.note(WriteDone(evidence=Evidence.ANSWER))
                    return
        if not await hand.wait_for_others(running, since):
            return


async def _tell_refusal(hand: Hand, error: ControllerError) -> None:
    facts = {"cause": error.cause, "detail": error.detail, "remedy": error.remedy}
    made = WriteFailed if is_lasting(error) else WriteUnsent
    await hand.note(made(reason=Reason.CONTROLLER, facts=facts))


async def _heed_checks(hand: Hand, situation: Situation) -> None:
    block = await hand.heed(situation)
    if block is not None:
        raise StepFailedError(Reason.CHECK, check=block.check, seen=block.seen, remedy=block.remedy)
