"""One signed-in controller as the engine's port wants it."""

from __future__ import annotations

import asyncio
import datetime
import time
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from dataclasses import dataclass
from pathlib import Path

from ordnung.controllers import (
    aiming,
    banks,
    partitions,
    reset,
    starts,
    survey,
    systems,
    tasks,
    update,
    update_service,
    virtual_media,
    word,
)
from ordnung.controllers.client import Client, Endpoint
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.probe import send_probe
from ordnung.controllers.reset import ResetOffer
from ordnung.controllers.session import Session
from ordnung.controllers.types import Accepted, Aim, Marker, Reach, TaskView, Word
from ordnung.core.components import Server


class RedfishController:
    """A controller reached over Redfish. What it raises is always a ControllerError."""

    def __init__(self, session: Session, certificate: bytes | None = None) -> None:
        self._session, self._certificate = session, certificate

    @property
    def pin(self) -> str:
        """The fingerprint of the certificate it showed."""
        return self._session.pin

    @property
    def losses(self) -> int:
        """How often it forgot the session: it was restarted, or throws sessions away."""
        return self._session.losses

    async def read(self, now: Callable[[], datetime.datetime]) -> Server:
        """One reading of the server. Raises AnotherServerError when another one than that of its endpoint answers."""
        endpoint = self._session.endpoint
        server = await survey.read_server(self._session, endpoint, now, self._certificate)
        systems.demand_same(endpoint, server)
        return server

    async def reach(self) -> Reach:
        """How it can be fed."""
        return await update_service.read_reach(self._session)

    async def aim(self, reach: Reach, way: str, slot: str) -> Aim:
        """What an update of a slot is to name."""
        return await aiming.aim_at(self._session, reach, way, slot)

    async def pull(self, reach: Reach, target: str, uri: str) -> Accepted:
        """Have it fetch and write an image."""
        return await update.send_pull(self._session, reach, target, uri)

    async def push(self, reach: Reach, target: str, image: Path) -> Accepted:
        """Upload an image to be written."""
        return await update.send_push(self._session, reach, target, image)

    async def choose_bank(self, slot: str, version: str) -> None:
        """Have a component start from the bank that holds a version, with its next reset."""
        await banks.choose_bank(self._session, slot, version)

    async def set_up(self, slot: str) -> Accepted:
        """Have a service partition set up anew; what is on it is lost."""
        return await partitions.set_up(self._session, slot)

    async def choose_start(self, slot: str) -> None:
        """Send the next start, once, to a service partition; nothing is reset."""
        await starts.choose_start(self._session, slot)

    async def start_as_before(self) -> None:
        """Have the server start as it usually does, from its next start on."""
        await systems.start_as_before(self._session, await systems.own_system(self._session))

    async def insert_disc(self, uris: Mapping[str, str]) -> Accepted:
        """Have every start go to a disc in its virtual media, and insert it."""
        return await virtual_media.insert_disc(self._session, uris)

    async def eject_disc(self, uris: Mapping[str, str]) -> Accepted:
        """Take our disc out, and have the server start as it did before."""
        return await virtual_media.eject_disc(self._session, uris)

    async def leave_disc(self) -> None:
        """Have the server start as it did before: what runs from its disc is done."""
        await virtual_media.leave_disc(self._session)

    async def has_disc(self, uris: Mapping[str, str]) -> tuple[bool, bool]:
        """Whether our disc is inserted, and whether its starts go to a disc."""
        return await virtual_media.has_disc(self._session, uris)

    async def leave_word(self, mark: str, left: Word) -> bool:
        """Leave a word for whoever else signs in; whether it is shown."""
        return await word.leave_word(self._session, mark, left)

    async def find_word(self, mark: str) -> Word | None:
        """The word that was left under a mark; None where there is none."""
        return await word.find_word(self._session, mark)

    async def task(self, task: str | None, monitor: str | None) -> TaskView | None:
        """How a piece of work stands, or None when it is forgotten."""
        return await tasks.read_task(self._session, task, monitor)

    async def tasks(self) -> list[TaskView] | None:
        """All tasks it knows; None where it keeps no list."""
        return await tasks.list_tasks(self._session)

    async def find_reset(self, kind: str, *, force: bool = False) -> ResetOffer:
        """The reset of this kind that it offers."""
        return await reset.find_reset(self._session, kind, force=force)

    async def reset(self, offer: ResetOffer) -> None:
        """Ask for a reset, once."""
        await reset.send_reset(self._session, offer)

    def probe(self, destination: str) -> AbstractAsyncContextManager[None]:
        """Have it send a test event to an address of ours."""
        return send_probe(self._session, destination)

    async def marker(self) -> Marker:
        """By what this start can be told from the next."""
        return await reset.read_marker(self._session)


ENDS_SESSION = ("signed out", "password to be changed", "certificate changed", "certificate invalid", "not allowed")
"""Causes after which a kept session is no use any more."""


@dataclass(slots=True)
class _Kept:
    """A session kept between two questions; ``used_at`` in seconds of the process's clock."""

    session: Session
    certificate: bytes | None
    users: int = 0
    used_at: float = 0.0


class RedfishControllers:
    """Opens controllers over one shared client; a session is kept for as long as it is used, and a little longer."""

    def __init__(self, client: Client) -> None:
        self.client = client
        self._kept: dict[Endpoint, _Kept] = {}
        self._opening: dict[Endpoint, asyncio.Lock] = {}
        self._by_session: set[Endpoint] = set()
        """Those that let nobody in without a session: credentials are not sent to them with each request again."""

    @asynccontextmanager
    async def open(self, endpoint: Endpoint) -> AsyncIterator[RedfishController]:
        """A signed-in controller for as long as the context lasts. Raises ControllerError."""
        async with self._opening.setdefault(endpoint, asyncio.Lock()):
            kept = self._kept.get(endpoint) or await self._sign_in(endpoint)
            kept.users += 1
        try:
            yield RedfishController(kept.session, kept.certificate)
        except ControllerError as error:
            if kept.session.is_shut:
                self._by_session.add(endpoint)
            if kept.session.is_shut or error.cause in ENDS_SESSION:
                self._kept.pop(endpoint, None)
            raise
        finally:
            kept.users, kept.used_at = kept.users - 1, time.monotonic()
            await self._let_idle_go()

    async def _sign_in(self, endpoint: Endpoint) -> _Kept:
        _demand_credentials(endpoint)
        pin = endpoint.pin or await self.client.fetch_pin(endpoint)
        session = Session(self.client.line(endpoint, pin), may_go_without=endpoint not in self._by_session)
        certificate = await self.client.certificate(endpoint, pin)
        await session.sign_in()
        kept = self._kept[endpoint] = _Kept(session, certificate, used_at=time.monotonic())
        return kept

    async def _let_idle_go(self) -> None:
        oldest = time.monotonic() - self.client.limits.session_s
        idle = [e for e, kept in self._kept.items() if not kept.users and kept.used_at < oldest]
        await self._let_go(idle)

    async def let_go(self, endpoint: Endpoint) -> None:
        """Sign out of a controller that is not needed any more."""
        kept = self._kept.get(endpoint)
        if kept is not None and not kept.users:
            await self._let_go([endpoint])

    async def close(self) -> None:
        """Sign out everywhere."""
        await self._let_go(list(self._kept))

    async def _let_go(self, endpoints: list[Endpoint]) -> None:
        sessions = [kept.session for e in endpoints if (kept := self._kept.pop(e, None)) is not None]
        for endpoint in endpoints:
            self._opening.pop(endpoint, None)
        await asyncio.gather(*(session.sign_out() for session in sessions))


def _demand_credentials(endpoint: Endpoint) -> None:
    if endpoint.withheld:
        raise ControllerError(endpoint.name, "no credentials", endpoint.withheld)


@asynccontextmanager
async def open_session(client: Client, endpoint: Endpoint) -> AsyncIterator[Session]:
    """Verify or pin the certificate, sign in, and sign out at the end."""
    _demand_credentials(endpoint)
    pin = endpoint.pin or await client.fetch_pin(endpoint)
    session = Session(client.line(endpoint, pin))
    await session.sign_in()
    try:
        yield session
    finally:
        await session.sign_out()
