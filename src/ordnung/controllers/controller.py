"""One signed-in controller as the engine's port wants it."""

from __future__ import annotations

import datetime
from collections.abc import AsyncIterator, Callable
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from pathlib import Path
from urllib.parse import urlsplit

from ordnung.controllers import reset, survey, update
from ordnung.controllers.client import Client, Endpoint, Session, open_session
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.probe import send_probe
from ordnung.controllers.types import Marker, Reach, TaskView
from ordnung.core.components import Server
from ordnung.formats.addresses import Networks


class RedfishController:
    """A controller reached over Redfish. What it raises is always a ControllerError."""

    def __init__(self, session: Session) -> None:
        self._session = session

    @property
    def pin(self) -> str:
        """The fingerprint of the certificate it showed."""
        return self._session.pin

    async def read(self, now: Callable[[], datetime.datetime]) -> Server:
        """One reading of the server."""
        session = self._session
        certificate = await session.client.certificate(session.endpoint, session.pin)
        return await survey.read_server(session, session.endpoint.name, now, session.endpoint.user, certificate)

    async def reach(self) -> Reach:
        """How it can be fed."""
        return await update.read_reach(self._session)

    async def pull(self, reach: Reach, slot: str, uri: str) -> str:
        """Have it fetch and write an image; returns the task's path."""
        return await update.send_pull(self._session, reach, await update.target_of(self._session, slot), uri)

    async def push(self, reach: Reach, slot: str, image: Path) -> str:
        """Upload an image to be written; returns the task's path."""
        return await update.send_push(self._session, reach, await update.target_of(self._session, slot), image)

    async def task(self, path: str) -> TaskView | None:
        """A task, or None when it is forgotten."""
        return await update.read_task(self._session, path)

    async def tasks(self) -> list[TaskView]:
        """All update tasks it knows."""
        return await update.list_tasks(self._session)

    async def reset(self, kind: str) -> None:
        """Ask for a reset, once."""
        await reset.send_reset(self._session, kind)

    def probe(self, destination: str) -> AbstractAsyncContextManager[None]:
        """Have it send a test event to an address of ours."""
        return send_probe(self._session, destination)

    async def marker(self) -> Marker:
        """When it last started."""
        return await reset.read_marker(self._session)


class RedfishControllers:
    """Opens controllers over one shared client."""

    def __init__(self, client: Client, networks: Networks | None = None) -> None:
        """``networks`` are those where controllers may be; None allows all."""
        self.client, self.networks = client, networks

    @asynccontextmanager
    async def open(self, endpoint: Endpoint) -> AsyncIterator[RedfishController]:
        """Sign in to a controller for as long as the context lasts. Raises ControllerError."""
        host = urlsplit(endpoint.url).hostname or ""
        if self.networks is not None and not self.networks.allows(host):
            raise ControllerError(endpoint.name, "not allowed", f"{host} is not in {self.networks.tell()}")
        async with open_session(self.client, endpoint) as session:
            yield RedfishController(session)
