"""Can a controller reach us? One harmless probe: a test event, sent by it to an address of ours.

Nothing of the server or its system is touched: an event subscription is made, a test event asked for,
and the subscription is deleted again, whatever happens (DSP0266, eventing).
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from urllib.parse import urlsplit

from ordnung.controllers.client import Session, link_of
from ordnung.controllers.errors import ControllerError


@asynccontextmanager
async def send_probe(session: Session, destination: str) -> AsyncIterator[None]:
    """Have the controller send a test event to ``destination``; within the context it may arrive.

    Raises:
        ControllerError: it has no event service, or refuses: then nothing is known of the line.
    """
    root = await session.get("/redfish/v1/")
    service = await session.find(link_of(root.get("EventService"))) or {}
    subscriptions = link_of(service.get("Subscriptions"))
    actions = service.get("Actions")
    action = actions.get("#EventService.SubmitTestEvent") if isinstance(actions, dict) else None
    target = action.get("target") if isinstance(action, dict) else None
    if subscriptions is None or not isinstance(target, str):
        raise ControllerError(session.endpoint.name, "said no", "it can't send test events")
    body = {"Destination": destination, "Protocol": "Redfish", "Context": "ordnung probe"}
    made = await session.act(subscriptions, body)
    where = urlsplit(made.headers.get("Location") or link_of(made.body) or "").path
    try:
        await session.act(target, {})
        yield
    finally:
        if where:
            with suppress(ControllerError):
                await session.act(where, {}, method="DELETE")
