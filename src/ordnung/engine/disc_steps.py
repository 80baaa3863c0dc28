"""Steps of a server that is brought level by a disc in its virtual media (``core.by_disc``): in, watched, out.

While the kit on the disc is at work nothing is sent to the server from here: what it does is followed by readings.
Nobody's order breaks into that; what was begun with is brought to its end, or the disc is taken out again.
"""

from __future__ import annotations

from collections.abc import Awaitable
from dataclasses import dataclass

from ordnung.controllers import Accepted, ControllerError, Outcome, TaskView, Word
from ordnung.core.baseline import Position
from ordnung.core.by_disc import IN
from ordnung.core.checks import Before, Situation
from ordnung.core.components import Server
from ordnung.core.sheet import PlannedWrite
from ordnung.engine.compare import find_position, is_same
from ordnung.engine.direct_steps import ask_when_idle, heed_checks
from ordnung.engine.entries import (
    Evidence,
    Reason,
    Remedied,
    Remedy,
    Troubled,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteSent,
)
from ordnung.engine.hand import Hand
from ordnung.engine.ports import Controller
from ordnung.engine.reset_steps import let_start_end
from ordnung.engine.world import StepFailedError
from ordnung.store import RepositoryError

BY_KIT = "leave to the field kit on the disc"
INSERT, EJECT = "insert the disc", "take the disc out"
PREFERRED = ("HTTPS", "HTTP")


def disc_uris(hand: Hand) -> dict[str, str]:
    """Where the server's controller gets its disc, by protocol."""
    served = hand.world.payloads.protocols
    return {p: hand.world.payloads.disc_uri(hand.run, hand.name, p) for p in PREFERRED if p in served}


async def insert(hand: Hand, planned: PlannedWrite) -> None:
    """Insert the disc, and have the server's starts go there, once everything that could forbid it was asked.

    Raises:
        StepFailedError: a check stops the server, its starts can't be seen, or the disc is not at hand or not served.
    """
    if not disc_uris(hand):
        raise StepFailedError(Reason.NO_DISC_SERVED)
    marker = await hand.patiently(lambda c: c.marker(), hand.world.patience.contact_s)
    if marker.system is None and marker.boot is None:
        raise StepFailedError(Reason.STARTS_UNTOLD)
    try:
        await hand.world.payloads.find_disc()
    except RepositoryError as error:
        raise StepFailedError(Reason.NOT_AT_HAND, slot=planned.write.slot, why=error) from None
    await hand.show("staging", INSERT)
    hand.judged = None
    await _ask(hand, planned, INSERT)


async def take_out(hand: Hand, planned: PlannedWrite) -> None:
    """Take the disc out, once the kit has ended, nothing is being written any more, and no start is under way.

    Raises:
        StepFailedError: something is, for longer than the house waits.
    """
    if hand.state.is_away and not hand.state.leaves_disc:
        await _let_kit_end(hand)
    elif hand.state.is_away and not _has_said_idle(hand):
        await _demand_sight(hand)
    await let_start_end(hand)
    await hand.show("staging", EJECT)
    await _ask(hand, planned, EJECT)


async def _demand_sight(hand: Hand) -> None:
    """The kit has not said that it is done: its server is reset only where a write that it left would be seen.

    Raises:
        StepFailedError: no tasks are listed.
    """
    if await hand.patiently(lambda c: c.tasks(), hand.world.patience.contact_s) is None:
        raise StepFailedError(Reason.WRITES_UNSEEN)


def _has_said_idle(hand: Hand) -> bool:
    _, trouble = hand.state.remedies[-1]
    return trouble.facts.get("idle") == "yes"


async def _let_kit_end(hand: Hand) -> None:
    """Wait until the kit says that it has ended, which it does by having the server start as before; or for quiet.

    Everything is active by then; what it does still (look, write again what it saw too late) is not broken into.

    Raises:
        StepFailedError: it does not say so, and no tasks are listed.
    """
    end, shown = hand.until(hand.world.patience.quiet_s), None
    while True:
        look = await hand.patiently(lambda c: _look(hand, c), hand.world.patience.contact_s)
        if look.has_ended and look.task is None:
            return
        now = look.stand
        if now != shown:
            shown, end = now, hand.until(hand.world.patience.quiet_s)
        if hand.world.clock.now() >= end:
            await _demand_sight(hand)
            return
        await hand.show("writing", "the kit is at work; it has still to say that it has ended")
        await hand.pause(whole=True)


async def _ask(hand: Hand, planned: PlannedWrite, way: str) -> None:
    since, uris = hand.world.clock.now(), disc_uris(hand)

    def send(controller: Controller) -> Awaitable[Accepted]:
        return controller.insert_disc(uris) if way == INSERT else controller.eject_disc(uris)

    while True:
        async with hand.open() as controller:
            if way == INSERT:
                server = await hand.read_fresh(controller, planned.write.slot)
                if server is None:
                    return
                await heed_checks(hand, Situation(
                    server=server, before=Before.WRITE, now=hand.world.clock.now(), write=planned, way=way,
                    will_reset=True, own_disc=hand.own_disc,
                ))  # fmt: skip
            running = await ask_when_idle(hand, controller, planned, way, send)
            if not running:
                return
        if not await hand.wait_for_others(running, since):
            return


async def is_handled(hand: Hand, controller: Controller, planned: PlannedWrite) -> bool:
    """Whether the disc is in, or out, as a write wants it. It goes in only once its starts were sent there."""
    inserted, starts_there = await controller.has_disc(disc_uris(hand))
    return inserted if planned.write.to == IN else not inserted and not starts_there


# What the kit does


async def leave_to_kit(hand: Hand, planned: PlannedWrite) -> None:
    """The next write is the kit's: nothing is sent."""
    await hand.note(WriteIntent(planned=planned, way=BY_KIT))
    await hand.note(WriteSent(evidence=Evidence.LEFT))


async def follow_kit(hand: Hand, planned: PlannedWrite) -> None:
    """Watch by readings until the kit has done a write and its version is active.

    Raises:
        StepFailedError: the server has shown nothing new for longer than the house waits.
    """
    patience, write = hand.world.patience, planned.write
    hand.world.site.writing[hand.endpoint.url] = hand.name
    end, shown = hand.until(patience.disc_s), None
    while True:
        look = await hand.patiently(lambda c: _look(hand, c), patience.contact_s)
        if _is_done(hand, await hand.world.baseline.locate(look.server), planned):
            await hand.note(WriteDone(evidence=Evidence.VERSION))
            await hand.show("written", f"{write.slot} {write.to}", 100)
            return
        task, now = look.task, look.stand
        if now != shown:
            shown, end = now, hand.until(patience.disc_s)
        if task is not None:
            await hand.show(task.phase, _tell_task(hand, task), task.percent)
        else:
            await hand.show("writing", f"the kit is at work; next is {write.slot} {write.to}")
        if hand.world.clock.now() >= end or (look.has_ended and task is None):
            word = await _last_word(hand) if look.has_ended else None
            reason = Reason.KIT_SAID if word is not None else Reason.KIT_ENDED if look.has_ended else Reason.NOT_BY_KIT
            facts = {"slot": write.slot, "to": write.to, "minutes": str(round(patience.disc_s / 60))}
            facts |= {"why": word.text, "idle": "yes" if word.is_idle else "no"} if word is not None else {}
            await hand.note(WriteFailed(reason=reason, facts=facts))
            raise StepFailedError(reason, **facts)
        await hand.pause(whole=True)


async def _last_word(hand: Hand) -> Word | None:
    """Why the kit has ended without a write, by what it left with the controller; it may have left nothing."""
    try:
        async with hand.open() as controller:
            return await controller.find_word(hand.order_mark)
    except ControllerError:  # it only tells more
        return None


def _tell_task(hand: Hand, task: TaskView) -> str:
    """What the kit is at, by the component that the task is for, where it tells."""
    current = hand.state.current
    assert current is not None
    slots = {target.rstrip("/").rsplit("/", 1)[-1] for target in task.targets}
    found = [p.write for p in current.writes if p.write.slot in slots and p.is_update]
    return f"{found[0].slot}, by the kit" if found else f"{task.name or 'an update'}, by the kit"


@dataclass(frozen=True, slots=True)
class _Look:
    """The server, the first task that runs, and whether the kit has ended: its starts went there and don't any more.

    A controller that shows nothing of where they go tells nothing by that; its kit is waited for.
    """

    server: Server
    task: TaskView | None
    has_ended: bool

    @property
    def stand(self) -> object:
        """What changes while something goes on: versions, what waits, the task and how far it is, the start."""
        parts = tuple((part.slot, part.version, part.waiting, part.state) for part in self.server.components)
        at = (self.task.uri, self.task.phase, self.task.percent) if self.task is not None else None
        facts = self.server.facts
        return parts, at, (facts.boot, facts.power) if facts is not None else None


async def _look(hand: Hand, controller: Controller) -> _Look:
    server = await controller.read(hand.world.clock.now)
    at_work = (task for task in await controller.tasks() or [] if task.outcome is Outcome.RUNNING)
    running = [task for task in at_work if not task.has_not_begun]  # what waits for a reset is none of its work
    _, starts_there = await controller.has_disc(disc_uris(hand))
    hand.seen_on_disc = hand.seen_on_disc or starts_there
    return _Look(server, running[0] if running else None, hand.seen_on_disc and not starts_there)


def _is_done(hand: Hand, positions: tuple[Position, ...], planned: PlannedWrite) -> bool:
    """Whether a version is active, or one that the kit writes after it: it may be further than was seen here."""
    position = find_position(positions, planned.write.slot)
    if position is None:
        return False
    if planned.sets_up and position.component.state != "damaged":
        return True
    current = hand.state.current
    assert current is not None
    left = current.writes[hand.state.written :]
    wanted = [p.write.to for p in left if p.write.slot == planned.write.slot and not p.sets_up]
    return any(is_same(position, position.component.version, version) for version in wanted)


# Out of it


async def leave(hand: Hand, reason: Reason, **facts: str) -> None:
    """Nothing more is done on this server than taking the disc out again and starting its own system."""
    if hand.state.trouble is None:
        await hand.note(Troubled(reason=reason, facts=facts))
    await hand.note(Remedied(remedy=Remedy.DISC_OUT))
