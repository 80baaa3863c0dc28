"""Resets, and how to tell that one has happened."""

from __future__ import annotations

from ordnung.controllers.client import Json, Session, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.types import Marker

_PLACES = {
    "controller restart": ("Managers", "#Manager.Reset", ("GracefulRestart", "ForceRestart")),
    "server reboot": ("Systems", "#ComputerSystem.Reset", ("GracefulRestart", "ForceRestart")),
    "power cycle": ("Chassis", "#Chassis.Reset", ("PowerCycle", "FullPowerCycle")),
}


async def send_reset(session: Session, kind: str) -> None:
    """Ask for a reset, once. Raises as ``Session.act``: after a LostAnswerError it may be under way.

    Never call this while a write is under way: the caller must have seen the task's end.
    """
    collection, action, wanted = _PLACES[kind]
    resource = await _first(session, collection)
    found = (resource.get("Actions") or {}).get(action) or {}
    allowed = found.get("ResetType@Redfish.AllowableValues") or wanted
    chosen = next((name for name in wanted if name in allowed), None)
    target = found.get("target")
    if chosen is None or not isinstance(target, str):
        raise ControllerError(session.endpoint.name, "said no", f"it offers no {kind}")
    await session.act(target, {"ResetType": chosen})


async def read_marker(session: Session) -> Marker:
    """When server and controller last started, and how far the server has come."""
    system, manager = await _first(session, "Systems"), await _first(session, "Managers")
    boot = (system.get("BootProgress") or {}).get("LastState")
    return Marker(
        system=_text(system.get("LastResetTime")),
        controller=_text(manager.get("LastResetTime")),
        boot=_text(boot),
    )


async def _first(session: Session, collection: str) -> Json:
    root = await session.get("/redfish/v1/")
    members = await session.members(link_of(root.get(collection)))
    return (await session.find(members[0]) if members else None) or {}


def _text(value: object) -> str | None:
    return value if isinstance(value, str) else None
