"""What has to be done outside Ordnung while a server is worked on: by the house's hook, or by a person (P1, P3).

Work is moved off before the first outage and taken back after the last check; a ring is asked whether it is whole
again; what needs hands at the server is ticked. Nothing is sent to a device that waits for one of these.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from ordnung.core.sheet import PlannedRound


class ErrandKind(StrEnum):
    """What is asked for."""

    HANDS_BEFORE = "hands before"
    """Something at the server, before a write."""
    HANDS_AFTER = "hands after"
    """Something at the server, once a round is confirmed."""
    MOVE_OFF = "move off"
    TAKE_BACK = "take back"
    HEALED = "healed"
    """Its group says that it is whole again."""

    @property
    def is_by_hand(self) -> bool:
        """Whether somebody has to stand at the server."""
        return self in (ErrandKind.HANDS_BEFORE, ErrandKind.HANDS_AFTER)


@dataclass(frozen=True, slots=True, kw_only=True)
class Errand:
    """One thing to be done; ``slot`` and ``to`` say for which write, ``what`` is the catalog's sentence."""

    kind: ErrandKind
    slot: str = ""
    to: str = ""
    what: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Moves:
    """What a server's group wants done around an outage (P1). ``between``: it comes back between rounds (T4)."""

    off: bool = False
    healed: bool = False
    between: bool = False


def hands_before(step: PlannedRound, written: int) -> Errand | None:
    """What is to be done at the server before the next write of a round."""
    if written >= len(step.writes):
        return None
    planned = step.writes[written]
    if not planned.hands_before:
        return None
    write = planned.write
    return Errand(kind=ErrandKind.HANDS_BEFORE, slot=write.slot, to=write.to, what=planned.hands_before)


def hands_after(step: PlannedRound) -> tuple[Errand, ...]:
    """What is to be done at the server once a round is confirmed."""
    return tuple(
        Errand(kind=ErrandKind.HANDS_AFTER, slot=p.write.slot, to=p.write.to, what=p.hands_after)
        for p in step.writes
        if p.hands_after
    )


def all_hands(rounds: Iterable[PlannedRound]) -> tuple[Errand, ...]:
    """Every step by hand of a route, in the order in which they fall due."""
    found: list[Errand] = []
    for step in rounds:
        found += [errand for n in range(len(step.writes)) if (errand := hands_before(step, n)) is not None]
        found += hands_after(step)
    return tuple(found)


def tell_errand(errand: Errand, server: str) -> str:
    """What is to be done, as it is said to whoever shall do it."""
    match errand.kind:
        case ErrandKind.MOVE_OFF:
            return f"Move the work off {server}: it is about to go away."
        case ErrandKind.TAKE_BACK:
            return f"Take the work back to {server}: it runs again and was checked."
        case ErrandKind.HEALED:
            return f"See that what {server} holds is whole again, before the next of its group goes."
        case _:
            when = "Before" if errand.kind is ErrandKind.HANDS_BEFORE else "After"
            return f"{when} {errand.slot} {errand.to}: {errand.what}"
