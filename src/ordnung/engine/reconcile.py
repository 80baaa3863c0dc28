"""After a break: did the device take the write whose answer we never saw?

What was sent is never sent again unless the device itself shows that it never arrived.
"""

from __future__ import annotations

from enum import StrEnum

from ordnung.core.sheet import DiscPart
from ordnung.engine import disc_steps
from ordnung.engine.compare import holds, is_set_up
from ordnung.engine.entries import Evidence, Reason, ResetKind, WriteDone, WriteSent, WriteUnsent
from ordnung.engine.hand import Hand
from ordnung.engine.own_tasks import find_task
from ordnung.engine.ports import Controller
from ordnung.engine.resets import look_for_reset
from ordnung.engine.tape_state import OpenWrite


class Silence(StrEnum):
    """What it means that a device shows nothing of a write."""

    PROVES = "it never arrived"
    NOT_YET = "its controller may have started since and forgotten it"
    BLIND = "it keeps no list of tasks"


async def find_write(hand: Hand) -> None:
    """Ask the device until it shows what became of the write, or its silence proves that it never arrived."""
    pending = hand.state.open_write
    assert pending is not None
    if pending.planned.disc is DiscPart.KIT:
        await hand.note(WriteSent(evidence=Evidence.LEFT))
        return
    await hand.show("confirming", "asking the device whether it took the last write")
    patience, clock, first = hand.world.patience, hand.world.clock, None
    while True:
        look = await hand.patiently(lambda c: _look_for_write(hand, c), patience.contact_s)
        if not isinstance(look, Silence):
            await hand.note(look)
            return
        first = first or clock.now()
        gone = (clock.now() - first).total_seconds()
        if look is Silence.BLIND and gone >= patience.settle_s:
            # Silence proves nothing: it is followed by what it holds, and never sent again.
            await hand.note(WriteSent(evidence=Evidence.VERSION))
            return
        if gone >= (patience.settle_s if look is Silence.PROVES else patience.version_s):
            facts = {"message": "the device knows no such task and holds no such version"}
            await hand.note(WriteUnsent(reason=Reason.TRANSFER_FAILED, facts=facts))
            return
        if gone < patience.settle_s:
            await clock.sleep(patience.settle_s)
        else:
            await hand.show("confirming", f"asking whether it took the last write: {look}")
            await hand.pause(whole=True)


async def _look_for_write(hand: Hand, controller: Controller) -> WriteSent | WriteDone | Silence:
    pending = hand.state.open_write
    assert pending is not None
    tasks = await controller.tasks()
    task = find_task(tasks or [], pending)
    if task is not None:
        return WriteSent(task=task.uri, evidence=Evidence.TASK_LIST)
    if await is_held(hand, controller):
        return WriteDone(evidence=Evidence.VERSION)
    if not pending.planned.needs_payload:
        return Silence.PROVES  # what is done directly shows at once
    if tasks is None:
        return Silence.BLIND
    return Silence.PROVES if await _remembers(hand, controller, pending) else Silence.NOT_YET


async def _remembers(hand: Hand, controller: Controller, pending: OpenWrite) -> bool:
    """Whether its controller has certainly not started since the write was intended: its list goes back to it."""
    if pending.marker is None or pending.began_at is None:
        return False
    elapsed = (hand.world.clock.now() - pending.began_at).total_seconds()
    now = await controller.marker()
    return look_for_reset(ResetKind.CONTROLLER_RESTART, pending.marker, now, elapsed_s=elapsed).still


async def is_held(hand: Hand, controller: Controller) -> bool:
    """Whether the device shows what the open write was to bring, active or waiting."""
    pending = hand.state.open_write
    assert pending is not None
    if pending.planned.disc is not None:
        return await disc_steps.is_handled(hand, controller, pending.planned)
    positions = await hand.world.baseline.locate(await controller.read(hand.world.clock.now))
    if pending.planned.sets_up:
        return is_set_up(positions, pending.planned.write.slot, pending.planned.write.source)
    return holds(positions, pending.planned.write.slot, pending.planned.write.to)
