"""Who is at an address? As much as can be known without giving anything away to a stranger.

Credentials are sent only to a certificate that the fleet's authority vouches for or that is known already;
of all others no more is asked than the service root, which is open to everyone (DSP0266).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from ordnung.controllers.answers import as_text, link_of
from ordnung.controllers.client import Client, Endpoint
from ordnung.controllers.controller import open_session
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import ROOT, Session


@dataclass(frozen=True, slots=True, kw_only=True)
class Identity:
    """What answers at an address. ``vouched``: its certificate was verified; else only the root's UUID is told.

    ``system`` is the path of the server's own system where its controller serves several.
    """

    pin: str
    vouched: bool
    uuid: str | None = None
    serial: str | None = None
    model: str | None = None
    name: str | None = None
    system: str | None = None


async def identify(client: Client, endpoint: Endpoint) -> tuple[Identity, ...]:
    """Find out who is there: one for each system behind the controller, one at least.

    Raises:
        ControllerError: nobody, not Redfish, or (vouched for only) the credentials are refused.
    """
    try:
        pin, vouched = await client.fetch_pin(endpoint), True
    except ControllerError as error:
        if error.cause != "certificate invalid":
            raise
        pin, vouched = error.seen or await client.see_pin(endpoint), False
    stranger = Session(client.line(endpoint, pin))
    root = await stranger.get(ROOT)
    if "Systems" not in root and "RedfishVersion" not in root:
        raise ControllerError(endpoint.name, "not Redfish", "it has no service root")
    found = Identity(pin=pin, vouched=vouched, uuid=_lower(as_text(root.get("UUID"))))
    if not vouched or not endpoint.user:
        return (found,)
    async with open_session(client, replace(endpoint, pin=pin)) as session:
        systems = await session.members(link_of(root.get("Systems")))
    several = len(systems) > 1
    return tuple(
        replace(
            found,
            uuid=_lower(as_text(system.get("UUID"))) or (None if several else found.uuid),
            serial=as_text(system.get("SerialNumber")),
            model=as_text(system.get("Model")),
            name=as_text(system.get("HostName")),
            system=link_of(system) if several else None,
        )
        for system in systems
    ) or (found,)


def _lower(text: str | None) -> str | None:
    return text.lower() if text else None
