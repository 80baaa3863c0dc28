"""Two banks of one component: which is started from next, and a controller that comes back from its other one."""

from __future__ import annotations

from ordnung.standins.parts import Part

ACTIVATION = {"bios": "server reboot", "controller": "controller restart"}
"""The reset by which the chosen bank is started from."""


def objection_to(part: Part) -> str | None:
    """Why a component can't be started from its other bank, or None."""
    if part.spare is None:
        return "there is no other bank"
    if part.floor is not None and part.below(part.spare, part.floor):
        return f"{part.spare} is below the floor {part.floor}"
    return None


def choose(part: Part, other: bool) -> None:
    """From the next reset on it starts from its other bank, or from the present one after all."""
    part.next_bank = other


def start(part: Part, kind: str) -> str | None:
    """The chosen bank becomes the active one by this kind of reset; the version it had, or None if it has not."""
    if not part.next_bank or part.spare is None or kind not in ("power cycle", ACTIVATION.get(part.kind)):
        return None
    old = part.version
    part.version, part.spare, part.next_bank, part.in_second = part.spare, old, False, not part.in_second
    # What was written and not started from lay in the bank that is active now.
    part.waiting, part.waiting_rules, part.waiting_activation = None, {}, None
    return old


def save(part: Part) -> bool:
    """A controller that no longer starts from one bank starts from the other (N7.4); whether it had to."""
    if part.kind != "controller" or not part.dead or part.spare is None:
        return False
    part.version, part.spare, part.dead, part.in_second = part.spare, None, False, not part.in_second
    part.waiting, part.waiting_rules, part.waiting_activation = None, {}, None
    return True
