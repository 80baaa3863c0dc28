"""Can a controller reach us? One harmless probe: a test event, sent by it to an address of ours.

Nothing of the server or its system is touched: an event subscription is made, a test event asked for,
and the subscription is deleted again, whatever happens (DSP0266, eventing).
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress

from ordnung.controllers.answers import as_dict, as_path, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import ROOT, Session


@asynccontextmanager
async def send_probe(session: Session, destination: str) -> AsyncIterator[None]:
    """Have the controller send a test event to ``destination``; within the context it may arrive.

    Raises:
        ControllerError: it has no event service, or refuses: then nothing is known of the line.
    """
    root = await session.get(ROOT)
    service = await session.find(link_of(root.get("EventService"))) or {}
    subscriptions = link_of(service.get("Subscriptions"))
    target = as_path(as_dict(as_dict(service.get("Actions")).get("#EventService.SubmitTestEvent")).get("target"))
    if subscriptions is None or target is None:
        raise ControllerError(session.endpoint.name, "said no", "it can't send test events")
    body = {"Destination": destination, "Protocol": "Redfish", "Context": "ordnung probe"}
    made = await session.act(subscriptions, body)
    where = as_path(made.header("Location")) or link_of(made.body)
    try:
        await session.act(target, {})
        yield
    finally:
        if where:
            with suppress(ControllerError):
                await session.act(where, {}, method="DELETE")
