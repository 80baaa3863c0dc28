"""What of a controller's tree is one server's own: its manager, and which chassis hold other servers too. Pure.

The controller of a server that is plugged into an enclosure may tell of that enclosure as well, and of its manager.
What is done to those is done to every server in there.
"""

from __future__ import annotations

from collections.abc import Sequence

from ordnung.controllers.answers import Json, as_dict, as_list, as_text, link_of

_PLUGGED_IN = ("Blade", "Cartridge", "Drawer", "Shelf", "Sled")
"""ChassisType (Chassis schema) of what is plugged into a chassis with others."""
_FREE = ("Enclosure", "RackMount", "StandAlone")
"""Of what holds a server, or several that are plugged in."""
_GROUPS = ("ImmersionTank", "Pod", "Rack", "RackGroup", "Row", "Zone")
"""Of what never is one server's."""
_HOLDS = "ComputerSystems"
"""Under ``Links``: what a chassis "directly and wholly contains" (Chassis schema)."""
_OWN_KINDS, _OTHER_KINDS = ("BMC", "ManagementController"), ("EnclosureManager", "FabricManager", "RackManager")
"""ManagerType (Manager schema) of a server's own controller, and of what manages other things."""


def own_manager(system: Json, managers: Sequence[Json]) -> Json:
    """The controller of a server among those that may be: the one whose firmware is read, and which is restarted.

    Args:
        managers: those that the system names, else all; the first of those that are equally good is taken.

    Returns:
        Nothing where there is none.
    """
    named = linked(system, "ManagedBy", managers)
    return min(named or managers, key=lambda manager: _unlikeness(system, manager), default={})


def _unlikeness(system: Json, manager: Json) -> tuple[bool, int]:
    kind, serves = as_text(manager.get("ManagerType")), paths_of(manager, "ManagerForServers")
    likely = 0 if kind in _OWN_KINDS else 2 if kind in _OTHER_KINDS else 1
    return bool(serves) and own_path(system) not in serves, likely


def linked(system: Json, name: str, bodies: Sequence[Json]) -> list[Json]:
    """Those of several resources that a system names as its own, in the order of ``bodies``."""
    named = paths_of(system, name)
    return [one for one in bodies if own_path(one) in named]


def places_to_cycle(system: Json, chassis: Sequence[Json], *, has_others: bool) -> list[tuple[Json, bool]]:
    """The chassis at which a power cycle of a server may be offered, and whether it would be of that server alone.

    Args:
        chassis: all that its controller tells of.
        has_others: whether its controller stands for more systems: what says nothing is nobody's then.
    """
    alone = [(one, not at) for one, at in zip(chassis, which_are_shared(system, chassis), strict=True)]
    named = paths_of(system, "Chassis") & frozenset(map(own_path, chassis))
    held = {own_path(one) for one in chassis if own_path(system) in paths_of(one, _HOLDS)}
    if own := named or held:
        return [(one, is_alone) for one, is_alone in alone if own_path(one) in own]
    return [(one, is_alone and not has_others) for one, is_alone in alone[:1]]


def own_path(body: Json) -> str:
    """Where a resource is, without the slash that some put to its end; empty where it does not say."""
    return (link_of(body) or "").rstrip("/")


def paths_of(body: Json, name: str) -> frozenset[str]:
    """The paths under one of a resource's ``Links``."""
    links = as_dict(body.get("Links")).get(name)
    one_or_more = as_list(links) or ([as_dict(links)] if as_dict(links) else [])
    return frozenset(path.rstrip("/") for one in one_or_more if (path := link_of(one)))


def which_are_shared(system: Json, chassis: Sequence[Json]) -> list[bool]:
    """Of each chassis that a controller tells of, whether it is certain to hold more than this one server."""
    own, named = own_path(system), paths_of(system, "Chassis")
    told = [(own_path(one), as_text(one.get("ChassisType")), paths_of(one, _HOLDS)) for one in chassis]
    is_held = any(own in holds for _, _, holds in told)
    is_plugged_in = any(kind in _PLUGGED_IN and (path in named or own in holds) for path, kind, holds in told)
    outwards = _outwards(chassis)
    around_others = _all_around({path for path, _, holds in told if holds - {own}}, outwards)
    around_plugged = _all_around({path for path, kind, _ in told if kind in _PLUGGED_IN}, outwards)

    def is_shared(path: str, kind: str | None, holds: frozenset[str]) -> bool:
        if kind in _GROUPS or len(holds) > 1 or path in around_others or (kind in _FREE and is_plugged_in):
            return True
        if holds:  # a system that nothing else tells of is this one, by another name
            return own not in holds and is_held
        return path in around_plugged

    return [is_shared(*one) for one in told]


def _outwards(chassis: Sequence[Json]) -> dict[str, set[str]]:
    """By the path of each chassis: what it is directly in, as either of the two tells."""
    around: dict[str, set[str]] = {}
    for one in chassis:
        path = own_path(one)
        for inner in paths_of(one, "Contains"):
            around.setdefault(inner, set()).add(path)
        around.setdefault(path, set()).update(paths_of(one, "ContainedBy"))
    return around


def _all_around(inner: set[str], around: dict[str, set[str]]) -> set[str]:
    """Everything that some chassis are in, and what that is in, and so on; round a circle once."""
    found: set[str] = set()
    at = inner - {""}
    while at:
        at = {outer for path in at for outer in around.get(path, ())} - found - {""}
        found |= at
    return found
