"""Resets: which type the service offers and where, and by what one start is told from the next."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.controllers.actions import Find, allowed_values
from ordnung.controllers.answers import Json, as_dict, as_number, as_path, as_text, link_of
from ordnung.controllers.belonging import places_to_cycle
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import ROOT, Session
from ordnung.controllers.systems import manager_of, own_system, with_unlisted
from ordnung.controllers.types import Marker
from ordnung.core.start_times import parse_moment

_GENTLE, _FORCED = ("GracefulRestart", "ForceRestart"), ("ForceRestart",)
_MANAGER, _CHASSIS, _SYSTEM = "#Manager.Reset", "#Chassis.Reset", "#ComputerSystem.Reset"
KINDS = ("controller restart", "server reboot", "power cycle")
_CYCLES = ("PowerCycle", "FullPowerCycle")


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetOffer:
    """A reset as the service offers it: ``type`` is its ResetType, ``target`` where it is asked for."""

    type: str
    target: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Places:
    """Where the resets of one server may be offered; of each chassis, whether its power is that server's alone."""

    system: Json
    manager: Json
    chassis: Sequence[tuple[Json, bool]] = ()

    def of(self, kind: str) -> list[tuple[Json, str, bool]]:
        """For one kind: where, by which action, and whether for this server alone; a power cycle by either."""
        if kind == "controller restart":
            return [(self.manager, _MANAGER, True)]
        chassis = [(one, _CHASSIS, is_alone) for one, is_alone in self.chassis] if kind == "power cycle" else []
        return [*chassis, (self.system, _SYSTEM, True)]


async def find_reset(session: Session, kind: str, *, force: bool = False) -> ResetOffer:
    """The reset to ask for, of those the service offers; a button is never pushed.

    Args:
        force: a graceful restart was asked for and did not come to pass.

    Raises:
        ControllerError: it offers none of this kind (said no).
    """
    offer, why = await choose_reset(session.find, await _places(session, kind), kind, force=force)
    if offer is None:
        raise ControllerError(session.endpoint.name, "said no", f"it offers no {why}")
    return offer


async def choose_reset(find: Find, places: Places, kind: str, *, force: bool = False) -> tuple[ResetOffer | None, str]:
    """The reset of a kind that is offered for a server alone; without one, what it does not offer, in words."""
    types, keeps_others = _CYCLES if kind == "power cycle" else _FORCED if force else _GENTLE, False
    for resource, name, is_alone in places.of(kind):
        # A service that lists nothing is asked on the chassis for a cycle, and for a plain restart elsewhere.
        first = types[0] if name != _SYSTEM or kind != "power cycle" else None
        offer = await _offer(find, as_dict(as_dict(resource.get("Actions")).get(name)), types, first)
        if offer is not None and is_alone:
            return offer, ""
        keeps_others = keeps_others or offer is not None
    more = " of this server alone: what it offers is for the whole enclosure" if keeps_others else ""
    return None, kind + more


async def find_missing_resets(find: Find, places: Places) -> tuple[tuple[str, str], ...]:
    """The kinds of resets that a service does not offer for a server, each with what it does not offer, in words."""
    found = [(kind, await choose_reset(find, places, kind)) for kind in KINDS]
    return tuple((kind, why) for kind, (offer, why) in found if offer is None)


async def _offer(find: Find, action: Json, types: tuple[str, ...], first: str | None) -> ResetOffer | None:
    """The first of these types that an action takes, or ``first`` where it does not tell what it takes."""
    target = as_path(action.get("target"))
    if target is None:
        return None
    offered = await allowed_values(find, action, "ResetType")
    chosen = next((t for t in types if t in offered), None) if offered is not None else first
    return ResetOffer(type=chosen, target=target) if chosen is not None else None


async def send_reset(session: Session, offer: ResetOffer) -> None:
    """Ask for a reset, once. Raises as ``Session.act``: after a LostAnswerError it may be under way.

    Never call this while a write is under way: the caller must have seen the task's end.
    """
    await session.act(offer.target, {"ResetType": offer.type})


async def read_marker(session: Session) -> Marker:
    """When server and controller last started, and how far the server has come, as far as it is told."""
    system = await own_system(session)
    manager = await manager_of(session, system)
    progress = as_dict(system.get("BootProgress"))
    diagnostic = await session.find(link_of(manager.get("ManagerDiagnosticData"))) or {}
    return Marker(
        system=time_told(system.get("LastResetTime")),
        controller=time_told(manager.get("LastResetTime")),
        boot=boot_told(system),
        boot_at=time_told(progress.get("LastStateTime")),
        power=as_text(system.get("PowerState")),
        uptime_s=as_number(diagnostic.get("ServiceRootUptimeSeconds")),
    )


def boot_told(system: Json) -> str | None:
    """How far a start has come (ComputerSystem schema, BootProgress); a maker's own words are none."""
    state = as_text(as_dict(system.get("BootProgress")).get("LastState"))
    return None if state == "OEM" else state


CLOCKS_SET = 2000
"""A year before it was told by a clock that nobody had set yet, or stands for no time at all."""


def time_told(value: object) -> str | None:
    """A time that tells one start from the next: where a clock begins anew with each start, it may be the same."""
    told = as_text(value)
    moment = parse_moment(told)
    return None if moment is not None and moment.year < CLOCKS_SET else told


async def _places(session: Session, kind: str) -> Places:
    """As much of them as one kind of reset takes."""
    system = await own_system(session)
    if kind != "power cycle":
        manager = await manager_of(session, system) if kind == "controller restart" else {}
        return Places(system=system, manager=manager)
    root = await session.get(ROOT)
    chassis = await with_unlisted(session.find, system, await session.members(link_of(root.get("Chassis"))))
    others = len(await session.members(link_of(root.get("Systems")))) > 1
    return Places(system=system, manager={}, chassis=places_to_cycle(system, chassis, has_others=others))
