"""Taking a place: a server begins only when the site's limits let it (``night.md`` T5, T6, T13)."""

from __future__ import annotations

import dataclasses

from ordnung.engine.entries import Ending, PlaceTaken, Reason
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
            why = ticket.refusal
            if why is not None and why.never:
                # One that was put off for somebody else's job may have had some of its rounds.
                ending, sent = (Ending.STOPPED, "Nothing more") if hand.state.done else (Ending.LEFT_OVER, "Nothing")
                await hand.end(ending, Reason.NO_WINDOW, why=why, sent=sent)
                return
            await hand.show("waiting", f"for its turn: {why}" if why else "for its turn")
            if why is None or not why.kept:
                end = hand.until(hand.world.patience.place_s)
            elif hand.world.clock.now() >= end:
                await hand.end(Ending.LEFT_OVER, Reason.NO_PLACE, why=why)
                return
            await hand.pause()
    finally:
        hand.world.site.line.remove(ticket)
