"""Steps that change nothing: read, plan, confirm a round, and the check at the end."""

from __future__ import annotations

from ordnung.core.by_disc import take_out
from ordnung.core.components import Server
from ordnung.core.sheet import PlannedRound
from ordnung.core.surroundings import find_changes_around
from ordnung.core.unattended import tell_waiting
from ordnung.core.waiting import show_waiting
from ordnung.engine.compare import find_not_told, find_surprises, find_unlisted, lacking, tells_more
from ordnung.engine.entries import Confirmed, Ending, LeftBefore, Plan, Read, ReadWhy, Reason, ResetKind, Warned
from ordnung.engine.errand_steps import bring_home
from ordnung.engine.hand import Hand
from ordnung.engine.settling import Settling
from ordnung.engine.telling import tell_reason
from ordnung.engine.world import StepFailedError

SHEET = "sheet"
"""Under which name it is told that a part is not there that a sheet was planned from."""
LOOK = "Nothing is sent to it. Look where it is, then plan again."


async def read(hand: Hand) -> None:
    """A fresh reading before anything is done, and whether all that is to be written to is there."""
    await hand.show("confirming", "reading before anything is done")
    server, pin = await _read_expected(hand)
    for slot in find_not_told(hand.on_sheet, server) if hand.state.before is None else ():
        why = "does not list it" if server.component(slot) is None else "tells no version of it"
        await hand.note(Warned(check=SHEET, seen=f"{slot} is on the sheet, and its controller {why}", remedy=LOOK))
    if hand.state.before is None and hand.left_before:
        await hand.note(LeftBefore(writes=hand.left_before))
    await hand.note(Read(server=server, why=ReadWhy.BEFORE))
    await hand.world.reporter.reading(hand.run, server, pin)


async def _read_expected(hand: Hand) -> tuple[Server, str]:
    """A reading that shows what is to be written to, and what was known before; without that once it had its time.

    Raises:
        StoppedError: a person stops it here.
    """
    patience, known = hand.world.patience, hand.state.before
    settling = Settling(patience.steady_s, patience.version_s)
    while True:
        server, pin = await hand.patiently(hand.read, patience.contact_s)
        odd = find_unlisted(known, server) if known is not None else find_not_told(hand.on_sheet, server)
        if settling.is_over(odd, hand.world.clock.now()):
            return server, pin
        await hand.show("confirming", f"waiting for it to settle: {odd[0]}")
        await hand.pause()
        await hand.may_go_on()


async def plan(hand: Hand) -> None:
    """The way from the last reading."""
    assert hand.state.latest is not None
    if hand.state.leaves_disc:
        await hand.note(Plan(rounds=(take_out(is_away=hand.state.is_away),) if hand.state.in_disc else ()))
        return
    route, rounds = await hand.plan(hand.state.latest)
    stranded = tuple(route.stranded)
    # What was chosen goes back as a whole or not at all; after trouble, as far as it goes.
    if hand.takes_back is not None and stranded and (hand.back is not None or not rounds):
        raise StepFailedError(Reason.BARRED, why=f"{stranded[0].slot}: {stranded[0].reason}")
    said = {(write.slot, write.to) for write in route.writes} & hand.state.said_written
    if said:
        # Whoever lies once is not written to twice: that is a person's to look at.
        raise StepFailedError(Reason.NOT_HELD, versions=", ".join(f"{slot} {to}" for slot, to in sorted(said)))
    foreign = hand.not_approved(rounds)
    if foreign:
        await hand.end(Ending.LEFT_OVER, Reason.NOT_APPROVED, what=foreign)
        return
    if hand.state.restart_due:
        rounds = (PlannedRound(writes=(), reset=ResetKind.CONTROLLER_RESTART), *rounds)
    await hand.note(Plan(rounds=rounds, stranded=stranded))
    if rounds or hand.state.remedies or hand.state.done:
        return
    missing = _missing(hand)
    if hand.unattended and route.rounds:
        await _end_unattended(hand, hand.state.latest)
    elif missing:
        await hand.end(Ending.SKIPPED, Reason.AS_FAR_AS_IT_GOES, lost=missing)
    elif stranded:
        await hand.end(Ending.SKIPPED, Reason.NO_WAY_FORWARD, slots=", ".join(lost.slot for lost in stranded))
    else:
        await hand.end(Ending.SKIPPED, Reason.LEVEL_ALREADY)


async def confirm(hand: Hand) -> None:
    """Read until every version promised is seen: it often shows up minutes late (N6.2)."""
    current, before = hand.state.current, hand.state.before
    assert current is not None and before is not None
    if current.starts_disc:  # the kit may be at work already: what it does is confirmed at its end
        await hand.note(Confirmed(versions=()))
        return
    server, pin = await _settled(hand, before, current)
    await hand.note(Read(server=server, why=ReadWhy.AFTER_ROUND))
    await hand.world.reporter.reading(hand.run, server, pin)
    surprises = _surprises(hand, before, server, current)
    if surprises:
        raise StepFailedError(Reason.CHANGED, found="; ".join(surprises))
    await hand.note(Confirmed(versions=hand.state.promised))
    if tells_more(before, server):
        await hand.note(Read(server=server, why=ReadWhy.MORE_IS_TOLD))
    await hand.show("checked", f"round {hand.state.round} confirmed by reading")


async def _settled(hand: Hand, before: Server, current: PlannedRound) -> tuple[Server, str]:
    """A reading that shows what was promised and nothing else; at the end of patience one with what is otherwise.

    Links come up, volumes assemble and cards are listed minutes after a start: what is otherwise has time to settle.
    """
    patience = hand.world.patience
    end, settling = hand.until(patience.version_s), Settling(patience.steady_s, patience.version_s)
    while True:
        await hand.show("confirming", "reading again")
        server, pin = await hand.patiently(hand.read, patience.contact_s)
        missing = lacking(await hand.world.baseline.locate(server), hand.state.promised)
        if missing and hand.world.clock.now() >= end:
            minutes = round(patience.version_s / 60)
            raise StepFailedError(Reason.NOT_SHOWN, missing="; ".join(missing), minutes=minutes)
        if missing:
            await hand.show("confirming", f"waiting for the version to show: {missing[0]}")
        else:
            odd = [*_surprises(hand, before, server, current), *find_unlisted(before, server)]
            if settling.is_over(odd, hand.world.clock.now()):
                return server, pin
            await hand.show("confirming", f"waiting for it to settle: {odd[0]}")
        await hand.pause()


def _surprises(hand: Hand, before: Server, server: Server, current: PlannedRound) -> list[str]:
    """What of a reading is otherwise than before the run, and neither its doing nor announced by a release."""
    touched = hand.state.touched | {slot for slot, _ in current.activates}  # active by whatever reset came since
    if hand.state.latest is not None:
        # What was known to wait may be active now, by whatever reset.
        touched |= {part.slot for part in hand.state.latest.components if part.has_waiting}
    if hand.state.leaves_disc:
        touched |= {part.slot for part in server.components}  # how far the kit came is what the next plan begins with
    shared = {part.slot for part in server.components if hand.shares(part)}
    around = find_changes_around(before, server, hand.state.announced, hand.state.awaited)
    return [*find_surprises(before, server, touched | shared), *around]


async def check(hand: Hand) -> None:
    """All rounds done: read, and if something is possible still, plan on until level (N6.6)."""
    if hand.state.leaves_disc:
        await _end_out_of_disc(hand)
        return
    server, _ = await _read_expected(hand)
    route, rounds = await hand.plan(server)
    again = {(write.slot, write.to) for write in route.writes} & set(hand.state.done)
    if hand.state.puts_back:
        again = set()
    if again:
        message = ", ".join(f"{slot} {version}" for slot, version in sorted(again))
        raise StepFailedError(Reason.GONE_AGAIN, versions=message)
    foreign = hand.not_approved(rounds)
    if rounds and not foreign and not hand.state.is_full:
        await hand.note(Plan(rounds=rounds, stranded=tuple(route.stranded)))
        return
    if not await bring_home(hand):
        return
    if hand.back is None and hand.state.puts_back:
        _, trouble = hand.state.remedies[-1]
        lost = "; ".join([*(f"{one.slot}: {one.reason}" for one in route.stranded), *_in_doubt(hand)])
        reason = Reason.PUT_BACK_PARTLY if lost else Reason.PUT_BACK
        await hand.end(Ending.PUT_BACK, reason, why=tell_reason(trouble.reason, trouble.facts), lost=lost)
        return
    if hand.unattended and route.rounds:
        await _end_unattended(hand, server)
        return
    ending = Ending.PUT_BACK if hand.back is not None else Ending.LEVEL
    missing = _missing(hand)
    if route.stranded or foreign or missing:
        left = [f"{foreign}: nobody approved it, plan it on another sheet"] if foreign else []
        left += [missing] if missing else []
        lost = "; ".join([*(f"{s.slot}: {s.reason}" for s in route.stranded), *left])
        await hand.end(ending, Reason.AS_FAR_AS_IT_GOES, lost=lost)
    else:
        await hand.end(ending, Reason.CONFIRMED)


def _in_doubt(hand: Hand) -> list[str]:
    """What shows its version of before, which it was not written back to: its device said that it had another."""
    said, back = hand.state.said_written, hand.takes_back or {}
    doubted = sorted((slot, to) for slot, to in said if to != back.get(slot, to) and (slot, back[slot]) not in said)
    return [f"{slot}: its device said that {to} was written, and shows {back[slot]}" for slot, to in doubted]


def _missing(hand: Hand) -> str:
    """What of the sheet was not in the server, in words; empty when all of it was."""
    return "; ".join(sorted(seen for check, seen in hand.state.warned if check == SHEET))


async def _end_out_of_disc(hand: Hand) -> None:
    """The end of a server whose disc was taken out before it was level."""
    if not await bring_home(hand):
        return
    _, trouble = hand.state.remedies[-1]
    ending = Ending.STOPPED if trouble.reason is Reason.STOPPED else Ending.FAILED
    await hand.end(ending, trouble.reason, **trouble.facts)


async def _end_unattended(hand: Hand, server: Server) -> None:
    """The end of a server whose reboots are left to whenever they come, and which needs one still (P5)."""
    waits = tell_waiting(show_waiting(server, hand.state.waiting))
    if waits:
        await hand.end(Ending.WAITS, Reason.WAITS, what=", ".join(waits))
    elif hand.state.was_sent_to:
        await hand.end(Ending.STOPPED, Reason.NOT_LEFT, what="the rest", sent="Nothing more was sent")
    else:
        await hand.end(Ending.LEFT_OVER, Reason.NOT_LEFT, what="what it needs", sent="Nothing was sent")
