"""What stands around the firmware, before and after: health, feeds, arrays, links, boot order, settings (N6.1)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence, Set

from ordnung.core.components import Server
from ordnung.core.facts import Facts

SETTING, BOOT_ORDER, LINKS = "setting ", "boot order", "links"
"""What a release may announce to change: ``setting NAME``, or one of the others as it is."""
_HEALTHS = ("OK", "Warning", "Critical")
_Pairs = Sequence[tuple[str, str]]


def find_changes_around(
    before: Server, after: Server, announced: Set[str] = frozenset(), awaited: Set[str] = frozenset()
) -> list[str]:
    """What around the versions is worse than before, or otherwise and not announced: sentences, the worst first.

    What somebody else had changed already and the start made active is no surprise (``Facts.settings_waiting``).
    Only what both readings tell is compared: what one of them does not tell proves nothing. Health, feeds, volumes
    and links count when they are worse; boot order and settings when they are otherwise.

    Args:
        awaited: slots whose health is known to have suffered, and which are still to be seen to.
    """
    worse = _worse_components(before, after)
    found = [told for slot, told in worse if slot not in awaited]
    old, new = before.facts, after.facts
    if old is None or new is None:
        return found
    if not worse and _is_worse(old.health, new.health):
        found.append(f"the health of the server was {old.health} and is {new.health}")
    found += [f"{feed} has no input any more" for feed in new.feeds_lost if feed not in old.feeds_lost]
    found += _worse_volumes(old, new)
    if LINKS not in announced:
        found += [f"{name} has no link any more" for name, *states in _both(old.links, new.links) if states[1] != "up"]
    if BOOT_ORDER not in announced and old.boot_order and new.boot_order and old.boot_order != new.boot_order:
        found.append(f"it started from {_in_order(old)}; now from {_in_order(new)}")
    found += [
        f"the setting {name} was {was} and is {now}"
        for name, was, now in _both(old.settings, new.settings)
        if SETTING + name not in announced and dict(old.settings_waiting).get(name) != now
    ]
    return found


def _worse_components(before: Server, after: Server) -> list[tuple[str, str]]:
    """Slots with what is told of them."""
    known = {part.slot: part for part in before.components}
    return [
        (part.slot, f"the health of {part.name} in {part.slot} was {known[part.slot].health} and is {part.health}")
        for part in after.components
        if part.slot in known and _is_worse(known[part.slot].health, part.health)
    ]


def _is_worse(old: str | None, new: str | None) -> bool:
    return old in _HEALTHS and new in _HEALTHS and _HEALTHS.index(old) < _HEALTHS.index(new)


def _worse_volumes(old: Facts, new: Facts) -> Iterator[str]:
    """A volume that was well and is not, or is not there any more."""
    if not new.volumes:
        return
    states = dict(new.volumes)
    for name, was in old.volumes:
        now = states.get(name)
        if now is None:
            yield f"{name} is gone"
        elif was == "OK" != now:
            yield f"{name} was OK and is {now}"


def _both(old: _Pairs, new: _Pairs) -> Iterator[tuple[str, str, str]]:
    """Name, before and after of what is told both times and differs."""
    states = dict(new)
    return ((name, was, states[name]) for name, was in old if states.get(name, was) != was)


def _in_order(facts: Facts) -> str:
    return ", then ".join(facts.boot_order)
