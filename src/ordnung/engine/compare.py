"""The check after: is what was promised there, and is what was there before still there? Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Set

from ordnung.core.baseline import Position
from ordnung.core.components import EMPTY, Component, Server
from ordnung.core.facts import FIRMWARE_DONE
from ordnung.core.versions import is_equal


def is_same(position: Position, seen: str | None, version: str) -> bool:
    """Whether a version seen is the one meant, by the product's scheme (V11)."""
    if seen is None:
        return False
    product = position.product
    if product is None:
        return seen.strip() == version.strip()
    return is_equal(product.scheme, seen, version, product.listed)


def stands_at(position: Position, source: str) -> bool:
    """Whether a component is where a write was planned from: at that version, or with nothing on it as planned."""
    component = position.component
    return source in EMPTY if component.is_empty else is_same(position, component.version, source)


def find_position(positions: Iterable[Position], slot: str) -> Position | None:
    """The position of a slot, or None when the component is gone."""
    return next((p for p in positions if p.component.slot == slot), None)


def holds(positions: Iterable[Position], slot: str, version: str) -> bool:
    """Whether a component has a version, active or waiting."""
    position = find_position(positions, slot)
    return position is not None and any(
        is_same(position, seen, version) for seen in (position.component.version, position.component.waiting)
    )


def is_set_up(positions: Iterable[Position], slot: str, source: str) -> bool:
    """Whether a reading shows that a damaged partition was set up: it is blank now. A blank one does not show it."""
    position = find_position(positions, slot)
    return position is not None and source == "damaged" and position.component.state == "blank"


def lacking(positions: Iterable[Position], promised: Iterable[tuple[str, str]]) -> list[str]:
    """What of the promised (slot, version) pairs a reading does not show, in words."""
    positions, missing = list(positions), []
    for slot, version in promised:
        position = find_position(positions, slot)
        seen = position.component.version if position else "nothing"
        if position is None or not is_same(position, seen, version):
            missing.append(f"{slot} shows {seen}, promised was {version}")
    return missing


def find_surprises(before: Server, after: Server, touched: Set[str]) -> list[str]:
    """Differences nobody asked for: components gone, exchanged, or changed though not touched (N7.3).

    A waiting version that became active by a reset asked for by others is no surprise, and neither is a component of
    which the controller now tells more than before: under another slot, or with identifiers it did not tell.
    """
    surprises = []
    for old, new in _pair(before, after):
        if new is None:
            surprises.append(f"{old.name} in {old.slot} is gone")
        elif _is_exchanged(old, new):
            surprises.append(f"{old.slot} is another device now: {_tell_exchange(old, new)}")
        elif _is_untold(old, new):
            surprises.append(f"{old.name} in {old.slot} told {old.version} and tells no version now")
        elif old.slot not in touched and old.version is not None and new.version not in (old.version, old.waiting):
            surprises.append(f"{old.slot} changed from {old.version} to {new.version} though it was not touched")
    return surprises


def find_unlisted(known: Server, now: Server) -> list[str]:
    """What a reading does not show of what was known, in words: parts not listed, or not in its inventory of firmware,
    versions not told, and resets not offered.

    So it is for minutes after a start: a controller lists its parts, and asks them for their versions, one by one.
    """
    parts = [f"{old.name} in {old.slot} {odd}" for old, new in _pair(known, now) if (odd := _lacks(old, new))]
    return [*parts, *_find_unoffered(known, now)]


def _find_unoffered(known: Server, now: Server) -> list[str]:
    if known.facts is None or now.facts is None:
        return []
    before = dict(known.facts.no_reset)
    return [f"it offers no {missing}" for kind, missing in now.facts.no_reset if kind not in before]


def _lacks(old: Component, new: Component | None) -> str:
    if new is None:
        return "is not listed"
    if _is_untold(old, new):
        return "tells no version"
    return "is not in its inventory" if old.software_id is not None and new.software_id is None else ""


def _pair(before: Server, after: Server) -> Iterator[tuple[Component, Component | None]]:
    """Each component of a reading with what it is in a later one, under whatever slot; None where it is gone."""
    return ((old, after.component(old.slot) or _elsewhere(old, before, after)) for old in before.components)


def find_not_told(slots: Iterable[str], now: Server) -> list[str]:
    """Which of these slots a reading does not list, or lists without a version."""
    parts = ((slot, now.component(slot)) for slot in sorted(slots))
    return [slot for slot, part in parts if part is None or (part.version is None and not part.is_empty)]


def _is_untold(old: Component, new: Component) -> bool:
    return old.version is not None and new.version is None and not new.is_empty


def tells_more(before: Server, after: Server) -> bool:
    """Whether the controller shows more of the same server than before: new components, or more of what is there.

    So it is after an old controller's own update (N1.3): then the server is planned anew.
    """
    known = {part.slot: part for part in before.components}
    new = [part for part in after.components if part.slot not in known]
    more = [
        part
        for part in after.components
        if (old := known.get(part.slot)) is not None
        and ((old.software_id is None and part.software_id) or (old.updateable is False and part.updateable))
    ]
    if find_unlisted(before, after):
        return False
    return bool(new or more) and not find_surprises(before, after, {part.slot for part in after.components})


def _elsewhere(old: Component, before: Server, after: Server) -> Component | None:
    """The same device under a slot that was not there before: by its serial, or as the only one of its kind."""
    known = {part.slot for part in before.components}
    free = [part for part in after.components if part.slot not in known and part.kind == old.kind]
    if old.serial is not None:
        return next((part for part in free if part.serial == old.serial), None)
    alone = sum(part.kind == old.kind for part in before.components) == 1 and len(free) == 1
    return free[0] if alone else None


_IDENTITY = (("software", "software_id"), ("serial", "serial"), ("PCI", "pci"))


def _differing(old: Component, new: Component) -> list[tuple[str, str, str]]:
    """What is told both times and differs, by its word; what one of the readings does not tell proves nothing."""
    pairs = [(word, getattr(old, name), getattr(new, name)) for word, name in _IDENTITY]
    return [(word, a, b) for word, a, b in pairs if a is not None and b is not None and a != b]


def _is_exchanged(old: Component, new: Component) -> bool:
    return bool(_differing(old, new))


def _tell_exchange(old: Component, new: Component) -> str:
    """Both by what differs; by their names too where these differ."""
    names = (old.name, new.name) if old.name != new.name else ("", "")
    differing = _differing(old, new)
    told = [
        ", ".join(filter(None, [name, *(f"{word} {values[at]}" for word, *values in differing)]))
        for at, name in enumerate(names)
    ]
    return f"{told[0]} before; {told[1]} now"


def proves_back(before: Server | None, now: Server) -> str | None:
    """Why a reading does not prove that a server that was left away is back, or None when it does (T5).

    Proved is: its power is on and its system runs, as far as the controller tells; its health is not Critical; and
    everything that was there before is there.
    """
    facts = now.facts
    if facts is not None and facts.power not in (None, "On"):
        return f"its power is {facts.power}"
    stood_at = before.facts.boot if before is not None and before.facts is not None else None
    is_half_told = facts is not None and facts.boot == stood_at and stood_at in FIRMWARE_DONE
    if facts is not None and facts.boot not in (None, "None", "OSRunning") and not is_half_told:
        return "its system does not run yet"
    if facts is not None and facts.health == "Critical":
        return "its health is Critical"
    touched = {part.slot for part in now.components}
    surprises = find_surprises(before, now, touched) if before is not None else []
    return "; ".join(surprises) or None
