"""Find out from each controller's side whether it reaches us; the probe is ``controllers.probe``'s."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping, Sequence
from contextlib import AbstractAsyncContextManager
from typing import Protocol

from ordnung.controllers import ControllerError, Endpoint
from ordnung.engine.survey import own_error

AT_ONCE = 32
WAIT_S = 3.0
"""Real seconds a test event may take to arrive."""


class Probing(Protocol):
    """A signed-in controller that can be asked to send to an address."""

    def probe(self, destination: str) -> AbstractAsyncContextManager[None]: ...


class ProbingControllers(Protocol):
    """Opens controllers."""

    def open(self, endpoint: Endpoint) -> AbstractAsyncContextManager[Probing]: ...


class Doorbell(Protocol):
    """An address of ours that notices when someone knocks."""

    def hang(self, protocol: str) -> tuple[str, asyncio.Event] | None:
        """A fresh, unguessable address and what is set when something arrives there; None: not served."""
        ...


Report = Callable[[str, Mapping[str, str], ControllerError | None], Awaitable[None]]


async def probe_all(
    endpoints: Sequence[Endpoint],
    controllers: ProbingControllers,
    door: Doorbell,
    report: Report,
    wait_s: float = WAIT_S,
) -> None:
    """Probe every controller over HTTPS and HTTP; each result is handed on by server name as it comes."""
    gate = asyncio.Semaphore(AT_ONCE)

    async def one(endpoint: Endpoint) -> None:
        async with gate:
            try:
                found = await probe_one(endpoint, controllers, door, wait_s)
            except ControllerError as error:
                await report(endpoint.name, {}, error)
                return
            except Exception as error:
                await report(endpoint.name, {}, own_error(endpoint.name, error))
                return
        await report(endpoint.name, found, None)

    async with asyncio.TaskGroup() as group:
        for endpoint in endpoints:
            group.create_task(one(endpoint))


async def probe_one(
    endpoint: Endpoint, controllers: ProbingControllers, door: Doorbell, wait_s: float
) -> dict[str, str]:
    """What arrived, by protocol: one of ``core.reach.SHOWN``. Raises ControllerError."""
    found: dict[str, str] = {}
    async with controllers.open(endpoint) as controller:
        for protocol in ("HTTPS", "HTTP"):
            hung = door.hang(protocol)
            if hung is None:
                found[protocol] = "not asked"
                continue
            address, rang = hung
            try:
                async with controller.probe(address):
                    await asyncio.wait_for(rang.wait(), wait_s)
                    found[protocol] = "arrived"
            except TimeoutError:
                found[protocol] = "not arrived"
            except ControllerError as error:
                if error.cause not in ("said no", "no permission"):
                    raise
                found[protocol] = "not asked"
    return found
