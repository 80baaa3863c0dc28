"""Taking a place: a server begins only when the site's limits let it (``night.md`` T5, T6, T13)."""

from __future__ import annotations

import dataclasses

from ordnung.core.away import AwayPlace, Refusal
from ordnung.core.turn import NotYet
from ordnung.engine.entries import AheadDone, Ending, PlaceTaken, Reason
from ordnung.engine.hand import Hand
from ordnung.engine.ports import NoPlaceError
from ordnung.engine.world import Ticket


async def take_place(hand: Hand) -> None:
    """Wait for this server's turn and take its place.

    Left over when only a person could free one and nobody does, or when no window is left that is long enough.
    """
    needs = hand.place.outage or hand.state.has_outage_left
    place = dataclasses.replace(hand.place, outage=needs)
    ticket = Ticket(order=(hand.state.deferrals, *hand.order))
    hand.world.site.line.append(ticket)
    end = hand.until(hand.world.patience.place_s)
    try:
        while True:
            await hand.may_go_on(ticket)
            if hand.world.site.may_try(ticket):
                try:
                    await hand.note(PlaceTaken(place=place, moves=hand.moves))
                    return
                except NoPlaceError as error:
                    ticket.refusal = error.refusal
                    if _may_go_ahead(hand, error.refusal) and await _begin_ahead(hand, place):
                        return
            why = ticket.refusal
            if why is not None and why.never:
                # One that was put off, or was written ahead, has had some of what it was to have.
                begun = hand.state.was_sent_to
                ending, sent = (Ending.STOPPED, "Nothing more") if begun else (Ending.LEFT_OVER, "Nothing")
                await hand.end(ending, Reason.NO_WINDOW, why=why, sent=sent)
                return
            written = ", ".join(sorted({write.slot for write in hand.state.waiting})) if hand.state.was_ahead else ""
            told = f"{written} written ahead; for its turn" if written else "for its turn"
            await hand.show("waiting", f"{told}: {why}" if why else told)
            if why is None or not why.kept:
                end = hand.until(hand.world.patience.place_s)
            elif hand.world.clock.now() >= end:
                if hand.state.was_sent_to:
                    await hand.end(Ending.STOPPED, Reason.NO_PLACE_ANY_MORE, why=why)
                else:
                    await hand.end(Ending.LEFT_OVER, Reason.NO_PLACE, why=why)
                return
            await hand.pause()
    finally:
        hand.world.site.line.remove(ticket)


WAITED_FOR = ("window", "wave", "wait")
"""What of a sheet a server may be written ahead of (T8): not of a person who has to say something, nor a wish."""


def _may_go_ahead(hand: Hand, refusal: Refusal | NotYet) -> bool:
    """Whether what waits for a reset may be written before its turn: once, and with nothing done yet."""
    state = hand.state
    if not hand.ahead or hand.takes_back is not None or refusal.never or refusal.limit not in WAITED_FOR:
        return False
    return not (state.was_ahead or state.deferrals or state.changed or state.remedies)


async def _begin_ahead(hand: Hand, place: AwayPlace) -> bool:
    """Take a place among those at once alone; False where none is free."""
    try:
        ahead = dataclasses.replace(place, outage=False, ahead=True)
        await hand.note(PlaceTaken(place=ahead, moves=hand.moves))
    except NoPlaceError:
        return False
    return True


async def leave_ahead(hand: Hand) -> None:
    """Nothing more can be done before its turn: what waits in it now is read, and its place is free."""
    server, pin = await hand.patiently(hand.read, hand.world.patience.contact_s)
    await hand.world.reporter.reading(hand.run, server, pin)
    await hand.note(AheadDone())
