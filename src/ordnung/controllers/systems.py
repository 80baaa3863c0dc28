"""The system of the server that is meant, behind a controller that may stand for several."""

from __future__ import annotations

from ordnung.controllers.answers import Json, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import ROOT, Session


async def own_system(session: Session) -> Json:
    """The ComputerSystem of this session's server. Raises as ``Session.get``; ControllerError also without one.

    A controller that wakes may have its service root before it has a system: that passes.
    """
    own = session.endpoint.system
    system = await session.find(own) if own else await _first(session)
    if system is None:
        raise ControllerError(session.endpoint.name, "malformed answer", "it tells of no system")
    return system


async def _first(session: Session) -> Json | None:
    systems = await session.members(link_of((await session.get(ROOT)).get("Systems")))
    return next(iter(systems), None)


def path_of(session: Session, system: Json) -> str:
    """Where that system is changed. Raises ControllerError where it does not say where it is."""
    path = session.endpoint.system or link_of(system)
    if path is None:
        raise ControllerError(session.endpoint.name, "said no", "it does not say where its system is")
    return path


async def start_as_before(session: Session, system: Json) -> None:
    """Have a server start as it usually does, from its next start on. Raises as ``Session.change``."""
    boot = {"BootSourceOverrideEnabled": "Disabled", "BootSourceOverrideTarget": "None"}
    await session.change(path_of(session, system), system, {"Boot": boot})
