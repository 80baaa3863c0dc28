"""Resets: which type the service offers and where, and by what one start is told from the next."""

from __future__ import annotations

from dataclasses import dataclass

from ordnung.controllers.actions import allowed_values
from ordnung.controllers.answers import Json, as_dict, as_number, as_path, as_text, link_of, parse_moment
from ordnung.controllers.belonging import holding, is_shared, linked, own_path, paths_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import ROOT, Session
from ordnung.controllers.systems import manager_of, own_system
from ordnung.controllers.types import Marker

_GENTLE, _FORCED = ("GracefulRestart", "ForceRestart"), ("ForceRestart",)
_WANTED: dict[str, tuple[tuple[str, str], ...]] = {
    "controller restart": (("Managers", "#Manager.Reset"),),
    "server reboot": (("Systems", "#ComputerSystem.Reset"),),
    "power cycle": (("Chassis", "#Chassis.Reset"), ("Systems", "#ComputerSystem.Reset")),
}
"""Where each kind may be offered: a power cycle on the chassis or on the system."""
_CYCLES = ("PowerCycle", "FullPowerCycle")


@dataclass(frozen=True, slots=True, kw_only=True)
class ResetOffer:
    """A reset as the service offers it: ``type`` is its ResetType, ``target`` where it is asked for."""

    type: str
    target: str


async def find_reset(session: Session, kind: str, *, force: bool = False) -> ResetOffer:
    """The reset to ask for, of those the service offers; a button is never pushed.

    Args:
        force: a graceful restart was asked for and did not come to pass.

    Raises:
        ControllerError: it offers none of this kind (said no).
    """
    types = _CYCLES if kind == "power cycle" else _FORCED if force else _GENTLE
    system, keeps_others = await own_system(session), False
    for collection, name in _WANTED[kind]:
        # A service that lists nothing is asked on the chassis for a cycle, and for a plain restart elsewhere.
        first = types[0] if (collection != "Systems" or kind != "power cycle") else None
        for resource, is_alone in await _places(session, system, collection):
            offer = await _offer(session, as_dict(as_dict(resource.get("Actions")).get(name)), types, first)
            if offer is not None and is_alone:
                return offer
            keeps_others = keeps_others or offer is not None
    more = " of this server alone: what it offers is for the whole enclosure" if keeps_others else ""
    raise ControllerError(session.endpoint.name, "said no", f"it offers no {kind}{more}")


async def _offer(session: Session, action: Json, types: tuple[str, ...], first: str | None) -> ResetOffer | None:
    """The first of these types that an action takes, or ``first`` where it does not tell what it takes."""
    target = as_path(action.get("target"))
    if target is None:
        return None
    offered = await allowed_values(session.find, action, "ResetType")
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
        system=_time_told(system.get("LastResetTime")),
        controller=_time_told(manager.get("LastResetTime")),
        boot=as_text(progress.get("LastState")),
        boot_at=_time_told(progress.get("LastStateTime")),
        power=as_text(system.get("PowerState")),
        uptime_s=as_number(diagnostic.get("ServiceRootUptimeSeconds")),
    )


CLOCKS_SET = 2000
"""A year before it was told by a clock that nobody had set yet, or stands for no time at all."""


def _time_told(value: object) -> str | None:
    """A time that tells one start from the next: where a clock begins anew with each start, it may be the same."""
    told = as_text(value)
    moment = parse_moment(told)
    return None if moment is not None and moment.year < CLOCKS_SET else told


async def _places(session: Session, system: Json, collection: str) -> list[tuple[Json, bool]]:
    """Where a reset of a server may be offered, and whether it would be of that server alone."""
    if collection == "Systems":
        return [(system, True)]
    if collection == "Managers":
        return [(await manager_of(session, system), True)]
    everything = await session.members(link_of((await session.get(ROOT)).get("Chassis")))
    known = {own_path(one) for one in everything}
    for unlisted in paths_of(system, "Chassis") - known:
        everything += [body] if (body := await session.find(unlisted)) is not None else []
    own = linked(system, "Chassis", everything) or holding(system, everything)
    if own:
        return [(one, not is_shared(system, one, everything)) for one in own]
    others = len(await session.members(link_of((await session.get(ROOT)).get("Systems")))) > 1
    return [(one, not others and not is_shared(system, one, everything)) for one in everything[:1]]
