"""Resets: ask once, know by whatever the controller shows that it has acted, wait until the server is back.

A second reset is asked for only when it is certain that the first did not act. Where that can't be told, the server
is left to a person.
"""

from __future__ import annotations

import datetime

from ordnung.controllers import ControllerError, LostAnswerError, Marker
from ordnung.core.checks import Before, Situation
from ordnung.core.components import Server
from ordnung.core.facts import FIRMWARE_DONE
from ordnung.core.start_times import is_fresh_start
from ordnung.core.waiting import show_waiting
from ordnung.engine.compare import lacking
from ordnung.engine.entries import (
    Answer,
    Answered,
    Asked,
    Back,
    Evidence,
    Facts,
    Question,
    Reason,
    ResetIntent,
    ResetKind,
    ResetSeen,
    ResetSent,
    ResetSpared,
    ResetUnsent,
)
from ordnung.engine.hand import Hand, is_lasting
from ordnung.engine.own_tasks import find_others
from ordnung.engine.ports import Controller
from ordnung.engine.redundancy import waits_for_redundancy
from ordnung.engine.reset_watch import ResetWatch
from ordnung.engine.resets import ResetLook, look_for_reset
from ordnung.engine.tape import MAX_SENDS
from ordnung.engine.tape_state import OpenReset
from ordnung.engine.telling import tell_boot, tell_question
from ordnung.engine.world import StepFailedError

GRACEFUL = "GracefulRestart"


async def reset(hand: Hand) -> None:
    """Ask for the round's reset, once no write runs and no check forbids it."""
    await _wait_for_window(hand)
    current = hand.state.current
    assert current is not None and current.reset is not None
    kind = ResetKind(current.reset)
    if hand.state.sends >= MAX_SENDS:
        raise hand.fail_unheard(Reason.RESET_NOT_BEGUN, kind=kind, tries=MAX_SENDS)
    if kind.is_outage:
        await let_start_end(hand)
    await hand.show("resetting", kind)
    since = hand.world.clock.now()
    while True:
        async with hand.open() as controller:
            server = await _read_safe(hand, controller)
            if server is None:
                return
            if await _is_spared(hand, kind, server):
                if kind.is_outage:
                    hand.world.site.restless.add(server.model)
                await hand.note(ResetSpared(kind=kind))
                return
            if await _may_come_by_itself(hand, kind, server, since):
                continue
            async with hand.world.site.controller(hand.endpoint.url):
                running = find_others(await controller.tasks() or [], hand.state)
                if not running:
                    await _send(hand, controller, kind, await _unshown(hand, server))
                    return
        if not await hand.wait_for_others(running, since):
            return


async def be_safe_to_reset(hand: Hand) -> None:
    """Wait until a reset may begin, and look whether anything forbids it: before work is moved off for it.

    Raises:
        StoppedError: a person stops it here.
        StepFailedError: a check forbids it.
    """
    is_safe = False
    while not is_safe:
        await _wait_for_window(hand)
        async with hand.open() as controller:
            is_safe = await _read_safe(hand, controller) is not None


async def _wait_for_window(hand: Hand) -> None:
    """Obey the people and the sheet's windows: none is asked for outside one (T9).

    A server that was started from a disc of ours is away already: the sooner it comes back the better.
    """
    while not (hand.state.in_disc and hand.state.is_away):
        await hand.may_go_on()
        why = await hand.world.orders.bars_reset(hand.run, hand.name)
        if not why:
            return
        await hand.show("waiting", f"before its reset: {why}")
        await hand.pause()


async def let_start_end(hand: Hand) -> None:
    """Wait while the server is starting: what was made active with that start may be written by the start itself.

    Raises:
        StepFailedError: it does not get to its end.
    """
    patience = hand.world.patience
    end, over = hand.until(patience.back_s), hand.until(patience.untold_s)
    while True:
        marker = await hand.patiently(lambda controller: controller.marker(), patience.contact_s)
        now = hand.world.clock.now()
        if not marker.is_starting and (now >= over or not _may_start_still(marker, now, patience.untold_s)):
            return
        if marker.is_starting and now >= end:
            minutes = round(patience.back_s / 60)
            raise StepFailedError(Reason.NOT_STARTED, minutes=minutes, stands=tell_boot(marker.boot))
        await hand.show("waiting", f"before its reset: {tell_boot(marker.boot)}")
        await hand.pause()


def _may_start_still(marker: Marker, now: datetime.datetime, untold_s: float) -> bool:
    """Whether a start that is told no further, or not at all, may not be over: it began so short a time ago."""
    if marker.boot not in (None, FIRMWARE_DONE[0]):
        return False
    began = marker.boot_at or marker.system
    return is_fresh_start(began, now, untold_s) if began is not None else marker.boot is not None


async def _read_safe(hand: Hand, controller: Controller) -> Server | None:
    """A fresh reading by which nothing forbids a reset (``night.md`` C); None while it shows less than was known.

    Raises:
        StepFailedError: a check forbids it.
    """
    server = await hand.read_settled(controller)
    if server is None or await waits_for_redundancy(hand, server):
        return None
    situation = Situation(
        server=server, before=Before.RESET, now=hand.world.clock.now(), own_disc=hand.own_disc
    )  # fmt: skip
    block = await hand.heed(situation)
    if block is not None:
        raise StepFailedError(Reason.CHECK, check=block.check, seen=block.seen, remedy=block.remedy)
    return server


async def _is_spared(hand: Hand, kind: ResetKind, server: Server) -> bool:
    """Whether what was written has started by itself, or by somebody else: then nothing waits for a reset any more.

    That a new version is told proves nothing alone. A power cycle is more than any start that can be told, one that
    is a remedy makes nothing active, and with a disc or another bank a start means something else: those are always
    carried out.
    """
    current = hand.state.current
    if kind is ResetKind.POWER_CYCLE or current is None or not hand.state.promised:
        return False
    if any(planned.bank or planned.disc is not None for planned in current.writes):
        return False
    runs = show_waiting(server, hand.state.waiting)
    return not lacking(await hand.world.baseline.locate(runs), hand.state.promised)


async def _may_come_by_itself(hand: Hand, kind: ResetKind, server: Server, since: datetime.datetime) -> bool:
    """Whether a controller that lets nobody restart it may do so by itself still, after a pause."""
    is_offered = server.facts is None or kind not in dict(server.facts.no_reset)
    waited = (hand.world.clock.now() - since).total_seconds()
    if kind is not ResetKind.CONTROLLER_RESTART or is_offered or waited >= hand.world.patience.version_s:
        return False
    await hand.show("waiting", "its controller lets nobody restart it: it may do so by itself")
    await hand.pause(whole=True)
    return True


async def _unshown(hand: Hand, server: Server) -> tuple[tuple[str, str], ...]:
    """What the reset is to make active and is not yet."""
    positions = await hand.world.baseline.locate(server)
    return tuple(pair for pair in hand.state.promised if lacking(positions, [pair]))


async def _send(hand: Hand, controller: Controller, kind: ResetKind, unshown: tuple[tuple[str, str], ...]) -> None:
    """The intent and the request. Cancelled, the intent stays open and is reconciled."""
    offer = await controller.find_reset(kind, force=hand.state.is_ignored)
    marker = await controller.marker()
    await hand.note(ResetIntent(kind=kind, marker=marker, type=offer.type, unshown=unshown))
    hand.judged, hand.settling, hand.refusals, hand.last_words = None, None, 0, ""
    hand.watch = ResetWatch(losses_before=controller.losses)
    try:
        await controller.reset(offer)
    except LostAnswerError as error:
        hand.hear(error)
        return
    except ControllerError as error:
        hand.hear(error)
        facts = {"cause": error.cause, "detail": error.detail, "remedy": error.remedy}
        await hand.note(ResetUnsent(reason=Reason.CONTROLLER, facts=facts))
        raise
    await hand.note(ResetSent())


async def find_reset(hand: Hand) -> None:
    """Reconcile: did the device take the reset whose answer we never saw?"""
    pending = hand.state.open_reset
    assert pending is not None
    await hand.show("resetting", f"asking whether the {pending.kind} has begun")
    patience = hand.world.patience
    # A graceful restart may act late: its system closes its programs first.
    begins_s = patience.graceful_s if pending.type == GRACEFUL else patience.begins_s
    certain, end = hand.until(begins_s), hand.until(patience.back_s)
    while True:
        _, look = await hand.patiently(lambda c: _look(hand, c), patience.back_s)
        if look.acted is not None:
            await hand.note(ResetSeen(evidence=look.acted))
            return
        if look.still and hand.world.clock.now() >= certain:
            if await hand.patiently(lambda c: _shows_promised(hand, c), patience.contact_s):
                await hand.note(ResetSeen(evidence=Evidence.VERSION))
                return
            await hand.note(ResetUnsent(reason=Reason.RESET_NOT_BEGUN, facts={"kind": pending.kind, "tries": "1"}))
            return
        if look.is_blind and hand.world.clock.now() >= end:
            raise StepFailedError(Reason.RESET_UNCERTAIN, kind=pending.kind)
        await hand.pause(whole=look.is_blind)


async def await_return(hand: Hand) -> None:
    """Wait until the reset has acted and the server runs again; the lost connection is expected."""
    pending = hand.state.open_reset
    assert pending is not None
    await hand.show("returning", f"{pending.kind}: away, which is expected")
    # What its device writes with the reset makes that longer.
    longest_s = hand.world.patience.back_s + sum(staged.planned.write.seconds or 0.0 for staged in hand.state.staged)
    end = hand.until(longest_s)
    while True:
        found = await _look_once(hand)
        if found is not None:
            marker, look = found
            await _note_seen(hand, look)
            if await _has_started_disc(hand, marker):
                return
            seen_at = hand.state.open_reset.seen_at if hand.state.open_reset is not None else None
            left = _left_to_start(hand, marker, seen_at)
            if seen_at is not None and marker.is_up(pending.marker) and left <= 0:
                await hand.note(Back(marker=marker))
                return
            if look.still and seen_at is None and await _is_ignored(hand):
                return
            if _is_asking(hand):
                await hand.pause(whole=look.is_blind)
                continue
            untold = f"; counted as running in {round(left / 60)} min" if seen_at is not None and left > 0 else ""
            await hand.show("returning", f"{pending.kind}: {tell_boot(marker.boot)}{untold}")
        if hand.is_way_down():
            end = hand.until(longest_s)
        if hand.world.clock.now() >= end and not _is_asking(hand):
            _give_up(hand, found[0] if found else None)
        await hand.pause(whole=found is not None and found[1].is_blind)


async def _has_started_disc(hand: Hand, marker: Marker) -> bool:
    """Whether the reset that starts the server from a disc has acted: its own system does not run, and need not."""
    pending, current = hand.state.open_reset, hand.state.current
    if pending is None or pending.seen is None or current is None or not current.starts_disc:
        return False
    await hand.note(Back(marker=marker))
    return True


def _left_to_start(hand: Hand, marker: Marker, seen_at: datetime.datetime | None) -> float:
    """Seconds that a start must still be taken to last because the controller does not tell how far it is, or not when
    its system runs.

    Power that is on says nothing of that: a server has it all through its start. A restart of the controller alone
    is none of the server's.
    """
    pending, current = hand.state.open_reset, hand.state.current
    assert pending is not None and current is not None
    if seen_at is None or marker.boot not in (None, *FIRMWARE_DONE) or not pending.kind.is_outage:
        return 0.0
    lasts = max(current.reset_seconds or 0.0, hand.world.patience.untold_s)
    return lasts - (hand.world.clock.now() - seen_at).total_seconds()


async def _look_once(hand: Hand) -> tuple[Marker, ResetLook] | None:
    """One look at the server; None when it does not answer, which a controller that goes away proves itself."""
    pending = hand.state.open_reset
    assert pending is not None
    try:
        async with hand.open() as controller:
            marker, look = await _look(hand, controller)
    except ControllerError as error:
        if is_lasting(error) and not await hand.forgives(error):
            raise
        untold = pending.marker.controller is None and pending.marker.uptime_s is None
        is_dark = pending.kind is not ResetKind.SERVER_REBOOT and error.cause in ("unreachable", "refused", "too slow")
        if is_dark and untold and _proves_by_silence(hand, is_over=False):
            await _note_seen(hand, ResetLook(acted=Evidence.CONNECTION))
        return None
    if hand.watch.dark_since is not None:
        if look.acted is None and _proves_by_silence(hand, is_over=True):
            look = ResetLook(acted=Evidence.CONNECTION)
        hand.watch.note_answer()
    return marker, look


def _proves_by_silence(hand: Hand, *, is_over: bool) -> bool:
    """Whether its silence until now proves the reset."""
    now = hand.world.clock.now()
    hand.watch.note_silence(now, way_down=hand.is_way_down())
    return hand.watch.proves_by_silence(now, is_over=is_over)


async def _look(hand: Hand, controller: Controller) -> tuple[Marker, ResetLook]:
    """What the controller shows; where it shows nothing that tells, versions may that were not active before."""
    pending = hand.state.open_reset
    assert pending is not None
    marker, now = await controller.marker(), hand.world.clock.now()
    _note_look(hand, pending, now)
    look = look_for_reset(
        pending.kind,
        pending.marker,
        marker,
        elapsed_s=(now - pending.began_at).total_seconds(),
        losses=hand.watch.losses(controller.losses),
        is_watched=hand.watch.is_close,
    )
    if look.is_blind and pending.seen is None and await _shows_promised(hand, controller):
        look = ResetLook(acted=Evidence.VERSION)
    return marker, look


async def _shows_promised(hand: Hand, controller: Controller) -> bool:
    """Whether versions are active that the open reset was to make active, and were not before."""
    pending = hand.state.open_reset
    if pending is None or not pending.unshown:
        return False
    positions = await hand.world.baseline.locate(await controller.read(hand.world.clock.now))
    return not lacking(positions, pending.unshown)


def _note_look(hand: Hand, pending: OpenReset, now: datetime.datetime) -> None:
    """Note this look at it.

    What an engine that was gone has missed is told by the versions that the reset was to make active, where any are.
    Where a person was asked it was certain by then, and they have looked.
    """
    last = now if pending.unshown or pending.asked is not None else pending.began_at
    hand.watch.note_look(now, last, hand.world.patience.unseen_s)


async def _note_seen(hand: Hand, look: ResetLook) -> None:
    pending = hand.state.open_reset
    if look.acted is not None and pending is not None and pending.seen is None:
        await hand.note(ResetSeen(evidence=look.acted))


async def _is_ignored(hand: Hand) -> bool:
    """Whether a graceful restart certainly did not come to pass in time, and may be asked for by force.

    Raises:
        StepFailedError: a person does not want that, or nobody has answered in time.
    """
    pending, patience = hand.state.open_reset, hand.world.patience
    assert pending is not None
    gone = (hand.world.clock.now() - pending.began_at).total_seconds()
    if pending.type != GRACEFUL or gone < patience.graceful_s:
        return False
    if pending.asked is None and await hand.patiently(lambda c: _shows_promised(hand, c), patience.contact_s):
        await _note_seen(hand, ResetLook(acted=Evidence.VERSION))
        return False
    facts = {"minutes": str(round(patience.graceful_s / 60))}
    if not patience.may_force and not await _is_wanted(hand, facts):
        return False
    await hand.note(ResetUnsent(reason=Reason.RESET_IGNORED, facts=facts))
    return True


def _is_asking(hand: Hand) -> bool:
    """Whether a person was asked about the open reset and has not answered."""
    return hand.state.open_reset is not None and hand.state.open_reset.question is not None


async def _is_wanted(hand: Hand, facts: Facts) -> bool:
    """Whether a person wants it by force: asked once, then looked for. Meanwhile the server is watched on."""
    pending = hand.state.open_reset
    assert pending is not None
    if pending.asked is None or pending.asked_at is None:
        question = Asked(question=Question.FORCE_RESTART, facts=facts)
        await hand.note(question)
        await hand.show("returning", tell_question(question))
        return False
    reply = await hand.world.orders.reply(hand.run, hand.name) if pending.answer is None else None
    if reply is not None:
        await hand.note(Answered(question=Question.FORCE_RESTART, answer=reply.answer, by=reply.by))
    answer = reply.answer if reply is not None else pending.answer
    waited = (hand.world.clock.now() - pending.asked_at).total_seconds()
    is_over = waited >= hand.world.patience.answer_s or await hand.is_stopped()
    if (answer is not None and answer is not Answer.FORCE) or (answer is None and is_over):
        if hand.state.in_disc:  # it must not find the disc when it comes after all
            await hand.note(ResetUnsent(reason=Reason.RESET_IGNORED, facts=facts))
        raise StepFailedError(Reason.RESET_IGNORED, **facts)
    return answer is Answer.FORCE


def _give_up(hand: Hand, marker: Marker | None) -> None:
    pending = hand.state.open_reset
    assert pending is not None
    if pending.seen is None:
        raise StepFailedError(Reason.RESET_UNCERTAIN, kind=pending.kind)
    minutes = round(hand.world.patience.back_s / 60)
    stands = tell_boot(marker.boot) if marker is not None else "its controller does not answer"
    raise StepFailedError(Reason.NOT_BACK, minutes=minutes, kind=pending.kind, stands=stands)
