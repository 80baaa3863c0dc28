"""Who is at an address? As much as can be known without giving anything away to a stranger.

Credentials are sent only to a certificate that the fleet's authority vouches for or that is known already;
of all others no more is asked than the service root, which is open to everyone (DSP0266).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from ordnung.controllers.client import Client, Endpoint, Session, link_of, open_session
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.tree import as_text


@dataclass(frozen=True, slots=True, kw_only=True)
class Identity:
    """What answers at an address. ``vouched``: the certificate was verified or known; else only the UUID is told."""

    pin: str
    vouched: bool
    uuid: str | None = None
    serial: str | None = None
    model: str | None = None
    name: str | None = None


async def identify(client: Client, endpoint: Endpoint, known: frozenset[str] = frozenset()) -> Identity:
    """Find out who is there.

    Args:
        known: fingerprints that were accepted before, of whichever server.

    Raises:
        ControllerError: nobody, not Redfish, or (vouched for only) the credentials are refused.
    """
    try:
        pin, vouched = await client.fetch_pin(endpoint), True
    except ControllerError as error:
        if error.cause != "certificate invalid":
            raise
        pin = error.seen or await client.see_pin(endpoint)
        vouched = pin in known
    stranger = Session(client, endpoint, pin)
    root = await stranger.get("/redfish/v1/")
    if "Systems" not in root and "RedfishVersion" not in root:
        raise ControllerError(endpoint.name, "not Redfish", "it has no service root")
    found = Identity(pin=pin, vouched=vouched, uuid=_lower(as_text(root.get("UUID"))))
    if not vouched or not endpoint.user:
        return found
    async with open_session(client, replace(endpoint, pin=pin)) as session:
        members = await session.members(link_of(root.get("Systems")))
        system = (await session.find(members[0]) if members else None) or {}
    return replace(
        found,
        uuid=_lower(as_text(system.get("UUID"))) or found.uuid,
        serial=as_text(system.get("SerialNumber")),
        model=as_text(system.get("Model")),
        name=as_text(system.get("HostName")),
    )


def _lower(text: str | None) -> str | None:
    return text.lower() if text else None
