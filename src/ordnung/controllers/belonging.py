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


def holding(system: Json, chassis: Sequence[Json]) -> list[Json]:
    """Those of several chassis that name a system as what they hold."""
    return [one for one in chassis if own_path(system) in paths_of(one, _HOLDS)]


def places_to_cycle(system: Json, chassis: Sequence[Json], *, has_others: bool) -> list[tuple[Json, bool]]:
    """The chassis at which a power cycle of a server may be offered, and whether it would be of that server alone.

    Args:
        chassis: all that its controller tells of.
        has_others: whether its controller stands for more systems: what says nothing is nobody's then.
    """
    own = linked(system, "Chassis", chassis) or holding(system, chassis)
    if own:
        return [(one, not is_shared(system, one, chassis)) for one in own]
    return [(one, not has_others and not is_shared(system, one, chassis)) for one in chassis[:1]]


def own_path(body: Json) -> str:
    """Where a resource is, without the slash that some put to its end; empty where it does not say."""
    return (link_of(body) or "").rstrip("/")


def paths_of(body: Json, name: str) -> frozenset[str]:
    """The paths under one of a resource's ``Links``."""
    links = as_dict(body.get("Links")).get(name)
    one_or_more = as_list(links) or ([as_dict(links)] if as_dict(links) else [])
    return frozenset(path.rstrip("/") for one in one_or_more if (path := link_of(one)))


def is_shared(system: Json, chassis: Json, others: Sequence[Json]) -> bool:
    """Whether a chassis is certain to hold more than this one server, as far as it and ``others`` tell.

    Args:
        others: all chassis that are known, itself among them or not.
    """
    own, holds, kind = own_path(system), paths_of(chassis, _HOLDS), as_text(chassis.get("ChassisType"))
    if kind in _GROUPS or len(holds) > 1:
        return True
    mine = [one for one in others if own_path(one) in paths_of(system, "Chassis") or own in paths_of(one, _HOLDS)]
    if kind in _FREE and any(map(_is_plugged_in, mine)):
        return True
    inner = _inside(chassis, others)
    if any(paths_of(one, _HOLDS) - {own} for one in inner):
        return True
    if holds:  # a system that nothing else tells of is this one, by another name
        return own not in holds and any(own in paths_of(one, _HOLDS) for one in others)
    return any(map(_is_plugged_in, inner))


def _is_plugged_in(chassis: Json) -> bool:
    return as_text(chassis.get("ChassisType")) in _PLUGGED_IN


def _inside(chassis: Json, others: Sequence[Json]) -> list[Json]:
    """What is in a chassis, in what is in that, and so on."""
    found, at = {own_path(chassis)}, [chassis]
    inner: list[Json] = []
    while at:
        outer = at.pop()
        for one in others:
            path = own_path(one)
            is_in = path in paths_of(outer, "Contains") or own_path(outer) in paths_of(one, "ContainedBy")
            if path and is_in and path not in found:
                found.add(path)
                at.append(one)
                inner.append(one)
    return inner
