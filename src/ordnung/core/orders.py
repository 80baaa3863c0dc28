"""What an order to a run under way will mean, said before it is given. Pure."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from ordnung.core.night.itinerary import round_minutes

SPELLED_OUT = 6
"""So many servers are told one by one; of more, the rest is counted."""


class Order(StrEnum):
    """What a person can order for a run under way, or a part of it."""

    HOLD = "hold"
    GO = "go"
    STOP = "stop"
    LEAVE_OUT = "leave out"
    LATER = "later"


ENDS = (Order.STOP, Order.LEAVE_OUT)
"""Orders by which a server ends as soon as nothing is under way on it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Ordered:
    """Where a server stands that an order is for.

    ``step`` is what is under way and is always finished, as it reads after "is": "writing bios 3.2.0"; empty between
    steps. ``left_s``: how long that will take from now; ``is_last``: after it there is nothing more to do.
    ``needs_s``: how long one that has not begun will take. ``elsewhere``: its work was moved off. ``waits``: slots
    written and not active yet.
    """

    server: str
    begun: bool
    step: str = ""
    left_s: float = 0.0
    is_last: bool = False
    needs_s: float = 0.0
    held: bool = False
    elsewhere: bool = False
    waits: tuple[str, ...] = ()
    in_disc: bool = False
    """It was started from a disc, and is not in its own system again."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Meaning:
    """``servers``: whom the order changes anything for. ``refused``: whom it can't be given for, each with why."""

    servers: tuple[str, ...]
    lines: tuple[str, ...]
    refused: tuple[str, ...]


def tell_meaning(order: Order, servers: Sequence[Ordered], at: str = "", left_s: float | None = None) -> Meaning:
    """What an order will do to each of these servers, who have not ended.

    Args:
        at: of ``LATER``, the time before which none of them begins, as people read it.
        left_s: how long it is from then to the end of the last window; None: there are none.
    """
    waiting, begun = [s for s in servers if not s.begun], [s for s in servers if s.begun]
    if order in (Order.LEAVE_OUT, Order.LATER):
        lines = _not_begun(waiting, _PROMISE[order].format(at=at))
        if order is Order.LATER and left_s is not None:
            lines += [_no_room(s, left_s) for s in waiting if s.needs_s > left_s]
        refused = [f"{s.server} has begun: hold it or stop it instead." for s in begun]
        return Meaning(servers=_names(waiting), lines=tuple(lines), refused=tuple(refused))
    if order is Order.GO:
        held = [s for s in servers if s.held]
        lines = _not_begun([s for s in held if not s.begun], _PROMISE[order])
        lines += _one_by_one([s for s in held if s.begun], lambda s: f"{s.server} goes on with its next step.")
        return Meaning(servers=_names(held), lines=tuple(lines), refused=())
    tell = _tell_hold if order is Order.HOLD else _tell_stop
    lines = [*_one_by_one(begun, tell), *_not_begun(waiting, _PROMISE[order])]
    return Meaning(servers=_names(servers), lines=tuple(lines), refused=())


_PROMISE = {
    Order.HOLD: "begins only when it is let go on",
    Order.GO: "begins as soon as it is its turn",
    Order.STOP: "is left as it is: nothing is sent",
    Order.LEAVE_OUT: "is left out: nothing is sent",
    Order.LATER: "begins no earlier than {at}",
}
"""What becomes of who has not begun."""


def _names(servers: Sequence[Ordered]) -> tuple[str, ...]:
    return tuple(s.server for s in servers)


def _not_begun(servers: Sequence[Ordered], promise: str) -> list[str]:
    if not servers:
        return []
    names = ", ".join(s.server for s in servers[:SPELLED_OUT])
    if len(servers) == 1:
        return [f"{names} has not begun and {promise}."]
    more = f" and {len(servers) - SPELLED_OUT} more" if len(servers) > SPELLED_OUT else ""
    return [f"{len(servers)} servers have not begun; each {promise}: {names}{more}."]


def _one_by_one(servers: Sequence[Ordered], tell: Callable[[Ordered], str]) -> list[str]:
    lines = [tell(s) for s in servers[:SPELLED_OUT]]
    if len(servers) > SPELLED_OUT:
        lines.append(f"So do {len(servers) - SPELLED_OUT} more that have begun.")
    return lines


def _no_room(server: Ordered, left_s: float) -> str:
    left = round_minutes(max(left_s, 0.0))
    return f"{server.server} would be left over: it needs {round_minutes(server.needs_s)} min, {left} would be left."


_IN_DISC = "was started from its disc: it goes on until it is level, or stands still, and its own system runs again"


def _under_way(s: Ordered, then: str) -> str:
    """That a step is finished first: an order cuts nothing short."""
    if not s.step:
        return f"{s.server} {then}."
    ends = f"that ends in about {round_minutes(s.left_s)} min" if s.left_s > 0 else "that ends any moment"
    return f"{s.server} is {s.step}: {ends}, then it {then}."


def _tell_hold(s: Ordered) -> str:
    if s.in_disc:
        return f"{s.server} {_IN_DISC}: there is nothing left to hold then."
    if s.is_last:
        return _under_way(s, "is done: there is nothing left to hold")
    told = _under_way(s, "waits")
    if s.waits:
        told += f" What is written to {', '.join(s.waits)} waits for its reset."
    return f"{told} Its work stays elsewhere meanwhile." if s.elsewhere else told


def _tell_stop(s: Ordered) -> str:
    if s.in_disc:
        return f"{s.server} {_IN_DISC}, and ends there."
    told = _under_way(s, "takes its work back and ends here" if s.elsewhere else "ends here")
    if s.waits:
        told += f" What is written to {', '.join(s.waits)} becomes active with whatever reset comes next."
    return told
