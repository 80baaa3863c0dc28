"""Writing one payload to one component: intend, send and follow.

The payload's identity is settled against the very component before the intent is written; what was sent is never
sent again unless the device itself shows that it never arrived.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Awaitable, Callable

from ordnung.controllers import (
    AT_RESET,
    Aim,
    ControllerError,
    LostAnswerError,
    Outcome,
    Reach,
    TaskView,
    UnknownParameterError,
)
from ordnung.core.baseline import Position
from ordnung.core.checks import Before, Situation
from ordnung.core.components import Server, controller_version
from ordnung.core.route import Write
from ordnung.core.sheet import DiscPart, NamedPayload, PlannedWrite
from ordnung.engine import disc_steps
from ordnung.engine.compare import find_position, find_surprises, is_same, stands_at
from ordnung.engine.direct_steps import set_up, switch_bank
from ordnung.engine.entries import (
    Evidence,
    Read,
    ReadWhy,
    Reason,
    ResetKind,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteSent,
    WriteStaged,
    WriteUnsent,
)
from ordnung.engine.hand import Hand, is_refusal
from ordnung.engine.own_tasks import find_others, find_task
from ordnung.engine.ports import Controller, Ready
from ordnung.engine.reconcile import is_held
from ordnung.engine.redundancy import waits_for_redundancy
from ordnung.engine.tape import MAX_SENDS
from ordnung.engine.tape_state import OpenWrite
from ordnung.engine.world import StepFailedError
from ordnung.repository.identity import SettledBy, find_fitting, settle_identity
from ordnung.store import RepositoryError


async def write(hand: Hand) -> None:
    """Send the next payload of the round, once everything that could forbid it was asked."""
    current = hand.state.current
    assert current is not None
    planned = current.writes[hand.state.written]
    slot = planned.write.slot
    if planned.disc in (None, DiscPart.IN):
        await hand.may_go_on()
    if hand.state.sends >= MAX_SENDS:
        raise hand.fail_unheard(Reason.NOT_ARRIVED, slot=slot, tries=MAX_SENDS)
    direct = _direct_step(planned)
    if direct is not None:
        await direct(hand, planned)
        return
    if planned.payload is None:
        raise StepFailedError(Reason.NOT_NAMED, slot=slot, to=planned.write.to)
    await hand.show("staging", f"{slot} {planned.write.to}")
    ready = await _find_payload(hand, slot, planned.payload)
    since = hand.world.clock.now()
    while True:
        async with hand.open() as controller:
            server = await hand.read_fresh(controller, slot)
            if server is None or (await waits_for_redundancy(hand, server, slot)):
                return
            settled = await _refuse_wrong(hand, server, planned, ready)
            if settled is None:
                await _start_anew(hand, await controller.read(hand.world.clock.now))
                return
            reach = await controller.reach()
            if _needs_reset(hand, planned) and server.model in hand.world.site.restless:
                reach = reach.with_reset()
            way = await _choose_way(hand, server, planned, reach)
            aim = await _aim(hand, controller, reach, way, slot)
            if not aim.is_sure:
                await _demand_alone(hand, server, slot, ready, settled)
            async with hand.world.site.controller(hand.endpoint.url):
                tasks = await controller.tasks() or []
                running = find_others(tasks, hand.state)
                if not running:
                    known = tuple(task.uri for task in tasks)
                    intent = WriteIntent(
                        planned=planned,
                        way=way,
                        known_tasks=known,
                        settled_by=settled,
                        marker=await controller.marker(),
                        target=aim.target,
                        at_reset=_is_at_reset(reach, way),
                    )
                    await _send(hand, controller, intent, ready, reach)
                    return
        if not await hand.wait_for_others(running, since):
            return


async def _aim(hand: Hand, controller: Controller, reach: Reach, way: str, slot: str) -> Aim:
    aim = await controller.aim(reach, way, slot)
    names = way.startswith("pull") or reach.push_uri is not None
    return Aim(target="", is_sure=False) if names and hand.state.no_targets_at is not None else aim


async def _demand_alone(hand: Hand, server: Server, slot: str, ready: Ready, settled: SettledBy) -> None:
    """A controller that decides by the image alone gets it only where it is for nothing else in the server.

    Raises:
        StepFailedError: it may be written to something else, too.
    """
    positions = await hand.world.baseline.locate(server)
    others = find_fitting(positions, slot, ready.package)
    own = find_position(positions, slot)
    if hand.endpoint.system is not None and own is not None and not hand.shares(own.component):
        others = (*others, "the same of the other systems behind it")
    if ready.package is not None and settled is SettledBy.CHECKSUM:
        raise StepFailedError(Reason.NOT_ALONE, slot=slot, why="does not say whom it is for")
    if others:
        raise StepFailedError(Reason.NOT_ALONE, slot=slot, why=f"may be for {', '.join(others)} too")


def _needs_reset(hand: Hand, planned: PlannedWrite) -> bool:
    """Whether a write becomes active by an outage, in its round or at whatever reboot comes."""
    return not planned.at_once and hand.state.next_reset != ResetKind.CONTROLLER_RESTART


def _is_at_reset(reach: Reach, way: str) -> bool:
    try:
        return reach.apply_time(way) == AT_RESET
    except ValueError:
        return False  # and nothing will be sent


def _direct_step(planned: PlannedWrite) -> Callable[[Hand, PlannedWrite], Awaitable[None]] | None:
    """How a write is done for which nothing is sent from here; None for all others."""
    match planned.disc:
        case DiscPart.IN:
            return disc_steps.insert
        case DiscPart.KIT:
            return disc_steps.leave_to_kit
        case DiscPart.OUT:
            return disc_steps.take_out
    if planned.bank:
        return switch_bank
    return set_up if planned.sets_up else None


async def _start_anew(hand: Hand, server: Server) -> None:
    """The controller that other systems share was written by one of their runs: plan again from here.

    Raises:
        StepFailedError: something else changed, too.
    """
    current, before = hand.state.current, hand.state.before
    assert current is not None and before is not None
    touched = hand.state.touched | {w.write.slot for w in current.writes[: hand.state.written]}
    shared = {part.slot for part in server.components if hand.shares(part)}
    surprises = find_surprises(before, server, touched | shared)
    if surprises:
        raise StepFailedError(Reason.CHANGED, found="; ".join(surprises))
    await hand.note(Read(server=server, why=ReadWhy.SHARED_CHANGED))


async def _send(
    hand: Hand,
    controller: Controller,
    intent: WriteIntent,
    ready: Ready,
    reach: Reach,
) -> None:
    """The intent, the request, and what the device answered. Cancelled, the intent stays open and is reconciled."""
    await hand.note(intent)
    hand.refusals, hand.last_words = 0, ""
    hand.world.site.writing[hand.endpoint.url] = hand.name
    way = intent.way
    try:
        if way.startswith("pull"):
            uri = hand.world.payloads.uri(hand.run, hand.name, ready.sha256, way.rsplit(" ", 1)[-1])
            taken = await controller.pull(reach, intent.target, uri)
        else:
            taken = await controller.push(reach, intent.target, ready.path)
    except LostAnswerError as error:
        hand.hear(error)
        return  # the intent stays open: the next step asks the device
    except ControllerError as error:
        hand.hear(error)
        if intent.target and isinstance(error, UnknownParameterError) and "Targets" in error.names:
            known = hand.state.latest
            at = controller_version(known) if known is not None else ""
            await hand.note(WriteUnsent(reason=Reason.NO_TARGETS, facts={"controller": at}))
            return
        # Certainly not acted upon: a refusal is final, anything else may be sent again.
        facts = {"cause": error.cause, "detail": error.detail, "remedy": error.remedy}
        made = WriteFailed if is_refusal(error) else WriteUnsent
        await hand.note(made(reason=Reason.CONTROLLER, facts=facts))
        raise
    if taken.finished:
        await hand.note(WriteDone(evidence=Evidence.ANSWER, message=taken.message))
    else:
        await hand.note(WriteSent(task=taken.task, monitor=taken.monitor))


async def _find_payload(hand: Hand, slot: str, payload: NamedPayload) -> Ready:
    try:
        return await hand.world.payloads.find(payload)
    except RepositoryError as error:
        raise StepFailedError(Reason.NOT_AT_HAND, slot=slot, why=error) from None


async def _refuse_wrong(hand: Hand, server: Server, planned: PlannedWrite, ready: Ready) -> SettledBy | None:
    """The last look before a write: this very component, at the version planned for, and the right payload.

    Returns:
        What settles its identity; None when it is the controller that other systems share and one of their runs has
        written it meanwhile: then this one is planned anew.

    Raises:
        StepFailedError: nothing is to be sent.
    """
    write, payload = planned.write, planned.payload
    assert payload is not None
    position = find_position(await hand.world.baseline.locate(server), write.slot)
    if position is None:
        raise StepFailedError(Reason.GONE, slot=write.slot)
    if position.product is None or position.product.id != write.product:
        why = "the catalog does not say that this file is for it"
        raise StepFailedError(Reason.FOREIGN_PAYLOAD, slot=write.slot, why=why)
    if hand.shares(position.component) and _is_changed(position, write.source):
        return None
    settled = settle_identity(ready.package, payload, position.product, write.to, position.component)
    if not isinstance(settled, SettledBy):
        raise StepFailedError(Reason.FOREIGN_PAYLOAD, slot=write.slot, why=settled)
    if not stands_at(position, write.source):
        version = position.component.version
        raise StepFailedError(Reason.MOVED_ON, slot=write.slot, source=write.source, version=version)
    return settled


def _is_changed(position: Position, source: str) -> bool:
    component = position.component
    return component.has_waiting or not stands_at(position, source)


async def _choose_way(hand: Hand, server: Server, planned: PlannedWrite, reach: Reach) -> str:
    """How the payload is brought; another way where a check bars the first one.

    Raises:
        StepFailedError: there is no way, or a check stops this server.
    """
    served: tuple[str, ...] = hand.world.payloads.protocols
    if hand.state.spent_ways and reach.way(served, hand.state.spent_ways) is None:
        raise hand.fail_unheard(Reason.NOT_ARRIVED, slot=planned.write.slot, tries=MAX_SENDS)
    while True:
        way = reach.way(served, hand.state.spent_ways)
        situation = Situation(
            server=server, before=Before.WRITE, now=hand.world.clock.now(), write=planned, way=way,
            will_reset=hand.state.has_outage_left, reset=hand.state.next_reset, own_disc=hand.own_disc,
        )  # fmt: skip
        block = await hand.heed(situation)
        if block is None and way is not None:
            return way
        if block is None:
            raise StepFailedError(Reason.NO_WAY_IN, slot=planned.write.slot)
        plain = reach.way(_without_https(served), hand.state.spent_ways)
        if block.check == "clock" and "HTTPS" in served and plain is not None:
            served = _without_https(served)
            continue
        raise StepFailedError(Reason.CHECK, check=block.check, seen=block.seen, remedy=block.remedy)


def _without_https(served: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(protocol for protocol in served if protocol != "HTTPS")


async def follow(hand: Hand) -> None:
    """Watch a write until the device says how it ended, or shows it; silence is never taken for success."""
    pending = hand.state.open_write
    assert pending is not None
    write = pending.planned.write
    if pending.planned.disc is DiscPart.KIT:
        await disc_steps.follow_kit(hand, pending.planned)
        return
    hand.world.site.writing[hand.endpoint.url] = hand.name
    task = await _watch(hand)
    if task is None:
        await hand.note(WriteDone(evidence=Evidence.VERSION))
    elif task.outcome is Outcome.DONE:
        await hand.note(WriteDone(evidence=Evidence.TASK, message=task.message))
    elif task.outcome is Outcome.STAGED:
        await hand.note(WriteStaged(message=task.message))
    elif task.transfer_failed and not pending.was_staged:
        await hand.note(WriteUnsent(reason=Reason.TRANSFER_FAILED, facts={"message": task.message}))
    else:
        await _note_failure(hand, write, task)
    hand.world.site.writing.pop(hand.endpoint.url, None)
    if hand.state.open_write is None and hand.state.sends == 0 and hand.state.failure is None:
        is_kept = task is not None and task.outcome is Outcome.STAGED
        told = f"{write.slot} {write.to}: its device has it, and writes it with the reset"
        await hand.show(*(("staged", told) if is_kept else ("written", f"{write.slot} {write.to}", 100)))


async def _note_failure(hand: Hand, write: Write, task: TaskView) -> None:
    """It was not written, or nobody tells; what becomes of that comes once all that was staged is followed."""
    if task.outcome is Outcome.UNTOLD:
        await hand.note(WriteFailed(reason=Reason.TASK_VANISHED, facts={"slot": write.slot}))
        return
    how = await _how_it_stands(hand, write)
    facts = {"slot": write.slot, "to": write.to, "message": task.message, "source": write.source, "how": how}
    await hand.note(WriteFailed(reason=Reason.TASK_DENIED if how else Reason.TASK_FAILED, facts=facts))


async def _how_it_stands(hand: Hand, write: Write) -> str:
    """How a device shows a version that it says was not written; empty where it doesn't, or can't be asked."""
    try:
        server, _ = await hand.patiently(hand.read, hand.world.patience.contact_s)
    except (ControllerError, StepFailedError):
        return ""
    position = find_position(await hand.world.baseline.locate(server), write.slot)
    if position is None:
        return ""
    if is_same(position, position.component.version, write.to):
        return "active"
    return "waiting for a reset" if is_same(position, position.component.waiting, write.to) else ""


async def _watch(hand: Hand) -> TaskView | None:
    """The task once it has ended, or waits for the reset; None when the device holds the version untold.

    Raises:
        StepFailedError: it stands still. It is left alone.
    """
    patience = hand.world.patience
    since, shown = hand.world.clock.now(), None
    pending = hand.state.open_write
    assert pending is not None
    while True:
        task, is_held = await hand.patiently(lambda c: _look_at_task(hand, c), patience.contact_s)
        if is_held:
            return None
        if task is not None and task.outcome in (Outcome.DONE, Outcome.FAILED, Outcome.STAGED):
            return task
        now = (task.phase, task.percent, task.has_not_begun) if task is not None else ("writing", None, False)
        if shown != now:
            shown, since = now, hand.world.clock.now()
            await hand.show(now[0], f"{pending.planned.write.slot} {pending.planned.write.to}", now[1])
        stood = (hand.world.clock.now() - since).total_seconds()
        if task is not None and task.has_not_begun and stood >= _steady_s(hand, pending):
            return dataclasses.replace(task, outcome=Outcome.STAGED)
        if stood >= patience.back_s:
            return _stalled(hand, task)
        await hand.pause(whole=task is None or task.outcome is Outcome.UNTOLD)


def _steady_s(hand: Hand, pending: OpenWrite) -> float:
    """How long a task that has not begun, by its own word, may stand so before it is taken to wait for the reset."""
    return hand.world.patience.steady_s if pending.at_reset else hand.world.patience.version_s


async def _look_at_task(hand: Hand, controller: Controller) -> tuple[TaskView | None, bool]:
    """The task as it stands, and whether the version is held where no task tells."""
    pending = hand.state.open_write
    assert pending is not None
    if pending.task is None and pending.monitor is None:
        known = find_task(await controller.tasks() or [], pending)
        if known is not None:
            await hand.note(WriteSent(task=known.uri, evidence=Evidence.TASK_LIST))
            return known, False
        return None, await is_held(hand, controller)
    task = await controller.task(pending.task, pending.monitor)
    if task is not None and task.outcome is not Outcome.UNTOLD:
        return task, False
    return task, await is_held(hand, controller)


def _stalled(hand: Hand, task: TaskView | None) -> TaskView:
    pending = hand.state.open_write
    assert pending is not None
    if task is None or task.outcome is Outcome.UNTOLD:
        return TaskView(uri="", outcome=Outcome.UNTOLD)
    percent = "an unknown part" if task.percent is None else f"{task.percent} %"
    raise StepFailedError(Reason.TASK_STALLED, slot=pending.planned.write.slot, percent=percent)
