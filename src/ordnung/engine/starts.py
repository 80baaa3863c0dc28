"""Have a server start once from a service partition of its own, or take that back (N4.8). Nothing is reset here."""

from __future__ import annotations

from collections.abc import Callable

from ordnung.controllers import ControllerError, Endpoint
from ordnung.core.components import Component, Server, Start
from ordnung.engine.ports import Clock, Controller, Controllers

Demand = Callable[[Server], None]
"""Looks whether it is the server that was meant. Raises ControllerError when it is not."""


async def send_next_start(
    endpoint: Endpoint, controllers: Controllers, clock: Clock, slot: str, is_meant: Demand
) -> tuple[Server, str]:
    """Send a server's next start to a service partition; the reading that shows it, and the certificate's fingerprint.

    Raises:
        ControllerError: it can't, or something bars it: then nothing is changed, or what was changed is told.
    """
    async with controllers.open(endpoint) as controller:
        before = await controller.read(clock.now)
        is_meant(before)
        part = _startable(before, slot)
        if part.start is not Start.NEXT:
            await _demand_quiet(controller, before)
            await controller.choose_start(slot)
        after = await controller.read(clock.now)
        if _startable(after, slot).start is not Start.NEXT:
            detail = f"it took the choice and does not show it: whether its next start goes to {slot} is not known"
            raise _refused(before, detail)
        return after, controller.pin


async def take_next_start_back(
    endpoint: Endpoint, controllers: Controllers, clock: Clock, is_meant: Demand
) -> tuple[Server, str]:
    """Have a server start as it usually does where its next start goes to a service partition of it; as above.

    What somebody chose otherwise is left: nobody here knows what for.
    """
    async with controllers.open(endpoint) as controller:
        before = await controller.read(clock.now)
        is_meant(before)
        if any(part.start is Start.NEXT for part in before.components):
            await controller.start_as_before()
        return await controller.read(clock.now), controller.pin


def _startable(server: Server, slot: str) -> Component:
    part = server.component(slot)
    if part is None or part.start is None:
        raise _refused(server, f"it can't be told to start from {slot}")
    return part


async def _demand_quiet(controller: Controller, server: Server) -> None:
    """Raises ControllerError where somebody would come to a start that they don't expect."""
    facts = server.facts
    if facts is not None and facts.next_start is not None:
        raise _refused(server, f"a start of it is sent to {facts.next_start} already; take that back first")
    if any(task.is_running for task in await controller.tasks() or ()):
        raise _refused(server, "something is being written to it; wait until that has ended")


def _refused(server: Server, detail: str) -> ControllerError:
    return ControllerError(server.name, "said no", detail)
