"""What changed between two readings of a server (N1.7). Pure."""

from __future__ import annotations

from dataclasses import dataclass

from ordnung.core.components import Component, Server

CHANGES = ("vanished", "appeared", "exchanged", "version", "waiting", "state", "health")
"""What can have changed, what matters most first."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """One difference; ``before`` and ``after`` in words, None where there was or is nothing."""

    what: str
    slot: str
    kind: str
    name: str
    before: str | None
    after: str | None


def compare_readings(before: Server, after: Server) -> tuple[Change, ...]:
    """Every difference between two readings of one server, in the order of ``CHANGES``.

    A card that moved to another slot is found by its serial and reads as vanished here, appeared there.
    """
    old, new = ({c.slot: c for c in server.components} for server in (before, after))
    found = [_gone("vanished", old[slot]) for slot in old.keys() - new.keys()]
    found += [_gone("appeared", new[slot]) for slot in new.keys() - old.keys()]
    for slot in old.keys() & new.keys():
        found += _differences(old[slot], new[slot])
    return tuple(sorted(found, key=lambda change: (CHANGES.index(change.what), change.slot)))


def _gone(what: str, component: Component) -> Change:
    version = component.version or "unread"
    pair = (version, None) if what == "vanished" else (None, version)
    return _change(what, component, *pair)


def _differences(old: Component, new: Component) -> list[Change]:
    if _is_another(old, new):
        return [_change("exchanged", new, _tell(old), _tell(new))]
    pairs = (
        ("version", old.version, new.version),
        ("waiting", old.waiting if old.has_waiting else None, new.waiting if new.has_waiting else None),
        ("state", old.state, new.state),
        ("health", old.health, new.health),
    )
    return [_change(what, new, a, b) for what, a, b in pairs if a != b]


def _is_another(old: Component, new: Component) -> bool:
    """Another device in the same slot: by serial where both tell one, else by what it is."""
    if old.serial and new.serial:
        return old.serial != new.serial
    ids = [(c.software_id, c.pci) for c in (old, new)]
    return any(a and b and a != b for a, b in zip(*ids, strict=True))


def _tell(component: Component) -> str:
    return " ".join(piece for piece in (component.name, component.serial or component.version) if piece)


def _change(what: str, component: Component, before: str | None, after: str | None) -> Change:
    return Change(what=what, slot=component.slot, kind=component.kind, name=component.name, before=before, after=after)
