"""Resets: which type the service offers and where, and by what one start is told from the next."""

from __future__ import annotations

from dataclasses import dataclass

from ordnung.controllers.actions import allowed_values
from ordnung.controllers.answers import Json, as_dict, as_list, as_number, as_path, as_text, link_of, parse_moment
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import ROOT, Session
from ordnung.controllers.systems import own_system
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
    for collection, name in _WANTED[kind]:
        for resource in await _resources(session, collection):
            action = as_dict(as_dict(resource.get("Actions")).get(name))
            target = as_path(action.get("target"))
            if target is None:
                continue
            offered = await allowed_values(session.find, action, "ResetType")
            # A service that lists nothing is asked on the chassis for a cycle, and for a plain restart elsewhere.
            first = types[0] if (collection != "Systems" or kind != "power cycle") else None
            chosen = next((t for t in types if t in offered), None) if offered is not None else first
            if chosen is not None:
                return ResetOffer(type=chosen, target=target)
    raise ControllerError(session.endpoint.name, "said no", f"it offers no {kind}")


async def send_reset(session: Session, offer: ResetOffer) -> None:
    """Ask for a reset, once. Raises as ``Session.act``: after a LostAnswerError it may be under way.

    Never call this while a write is under way: the caller must have seen the task's end.
    """
    await session.act(offer.target, {"ResetType": offer.type})


async def read_marker(session: Session) -> Marker:
    """When server and controller last started, and how far the server has come, as far as it is told."""
    system = await own_system(session)
    manager = next(iter(await _beside(session, system, "Managers")), {})
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


async def _resources(session: Session, collection: str) -> list[Json]:
    """The server's own system, or what goes with it."""
    system = await own_system(session)
    return [system] if collection == "Systems" else await _beside(session, system, collection)


async def _beside(session: Session, system: Json, collection: str) -> list[Json]:
    """What a system names as its managers or its chassis; else the first of all."""
    named = as_list(as_dict(system.get("Links")).get("ManagedBy" if collection == "Managers" else "Chassis"))
    found = [await session.find(link_of(link)) for link in named]
    bodies = [body for body in found if body is not None]
    return bodies or (await session.members(link_of((await session.get(ROOT)).get(collection))))[:1]
