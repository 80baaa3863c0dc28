"""Read many servers at once; each answer or failure is handed on the moment it is there."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass

import structlog

from ordnung.controllers import ControllerError, Endpoint
from ordnung.core.components import Server
from ordnung.engine.ports import Clock, Controllers

AT_ONCE = 64
"""Servers read at once: a controller is slow, we are not; measured in ``bench``."""
DEADLINE_S = 120.0
"""Real seconds one server may take in all."""
log = structlog.get_logger()


@dataclass(frozen=True, slots=True, kw_only=True)
class Surveyed:
    """What came of one server: a reading with the certificate's fingerprint, or an error."""

    name: str
    server: Server | None = None
    pin: str | None = None
    error: ControllerError | None = None


Report = Callable[[Surveyed], Awaitable[None]]


async def survey(
    endpoints: Sequence[Endpoint], controllers: Controllers, clock: Clock, report: Report, at_once: int = AT_ONCE
) -> int:
    """Read every server once; returns how many could be read. One that fails doesn't disturb the others."""
    gate = asyncio.Semaphore(at_once)

    async def one(endpoint: Endpoint) -> bool:
        async with gate:
            result = await read_one(endpoint, controllers, clock)
        await report(result)
        return result.server is not None

    async with asyncio.TaskGroup() as group:
        tasks = [group.create_task(one(endpoint)) for endpoint in endpoints]
    return sum(task.result() for task in tasks)


async def read_one(
    endpoint: Endpoint, controllers: Controllers, clock: Clock, deadline_s: float = DEADLINE_S
) -> Surveyed:
    """One reading, its failure as a value, an error of our own included."""
    try:
        async with asyncio.timeout(deadline_s), controllers.open(endpoint) as controller:
            server = await controller.read(clock.now)
            return Surveyed(name=endpoint.name, server=server, pin=controller.pin)
    except ControllerError as error:
        return Surveyed(name=endpoint.name, error=error)
    except TimeoutError:
        slow = ControllerError(endpoint.name, "too slow", f"not read within {deadline_s:g} s")
        return Surveyed(name=endpoint.name, error=slow)
    except Exception as error:
        return Surveyed(name=endpoint.name, error=own_error(endpoint.name, error))
    finally:
        await controllers.let_go(endpoint)


def own_error(server: str, error: Exception) -> ControllerError:
    """An error of our own as this server's, with its traceback in the log."""
    log.exception("reading failed", server=server)
    return ControllerError(server, "our error", f"{type(error).__name__} in Ordnung; the log has it under {server}")
