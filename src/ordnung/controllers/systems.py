"""The system of the server that is meant, behind a controller that may stand for several."""

from __future__ import annotations

from typing import NamedTuple

from ordnung.controllers.actions import Find
from ordnung.controllers.answers import Json, as_dict, as_list, as_text, link_of
from ordnung.controllers.belonging import own_manager, own_path, paths_of
from ordnung.controllers.client import Endpoint
from ordnung.controllers.errors import AnotherServerError, ControllerError
from ordnung.controllers.session import ROOT, Session
from ordnung.core.same_server import Identified, Likeness, compare


async def own_system(session: Session) -> Json:
    """The ComputerSystem of this session's server.

    A controller that wakes may have its service root before it has a system: that passes.

    Raises:
        ControllerError: as ``Session.get``; and without a system.
        AnotherServerError: another server answers than the one of the session's endpoint.
    """
    own = session.endpoint.system
    system = await session.find(own) if own else await _first(session)
    if system is None:
        raise ControllerError(session.endpoint.name, "malformed answer", "it tells of no system")
    demand_same(session.endpoint, Told(as_text(system.get("UUID")), as_text(system.get("SerialNumber"))))
    return system


class Told(NamedTuple):
    """By what a system tells itself from others."""

    uuid: str | None
    serial: str | None


def demand_same(endpoint: Endpoint, told: Identified) -> None:
    """Raises AnotherServerError for another server than the one that an endpoint is known by."""
    likeness, how = compare(endpoint, told)
    if likeness is Likeness.OTHER:
        detail = f"another server answers there: {how}"
        raise AnotherServerError(endpoint.name, detail, uuid=told.uuid, serial=told.serial)


async def _first(session: Session) -> Json | None:
    systems = await session.members(link_of((await session.get(ROOT)).get("Systems")))
    return next(iter(systems), None)


async def manager_of(session: Session, system: Json) -> Json:
    """The controller of a system: of those it names as its managers, else of all; empty where none is told of.

    Raises:
        ControllerError: as ``Session.get``.
    """
    found = [await session.find(link_of(link)) for link in as_list(as_dict(system.get("Links")).get("ManagedBy"))]
    managers = [body for body in found if body is not None]
    return own_manager(system, managers or await session.members(link_of((await session.get(ROOT)).get("Managers"))))


async def with_unlisted(find: Find, system: Json, chassis: list[Json]) -> list[Json]:
    """All chassis that are listed, and those that a system names besides. Raises as ``find``."""
    known = {own_path(one) for one in chassis}
    named = [await find(path) for path in sorted(paths_of(system, "Chassis") - known)]
    return [*chassis, *(body for body in named if body is not None)]


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
