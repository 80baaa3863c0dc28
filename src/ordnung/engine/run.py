"""A run: its servers, each on its own tape, under the limits on how many may be worked on at once."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ordnung.controllers import Endpoint
from ordnung.engine.ports import TapeConflictError
from ordnung.engine.server_run import ServerRun, World

AT_ONCE = 4
"""Servers worked on at once in one run."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RunServer:
    """One server of a run; ``back`` as in ``ServerRun``."""

    endpoint: Endpoint
    group: str | None = None
    back: Mapping[str, str] | None = None


class Places:
    """Who may be worked on now: so many in all, so many of a group. First come, first served."""

    def __init__(self, limits: Mapping[str, int], at_once: int = AT_ONCE) -> None:
        self.limits, self.at_once = dict(limits), at_once
        self.taken: list[str] = []
        self._changed = asyncio.Condition()

    def is_free(self, group: str | None) -> bool:
        """Whether one more server of ``group`` may begin."""
        limit = self.limits.get(group or "", self.at_once)
        return len(self.taken) < self.at_once and self.taken.count(group or "") < limit

    async def take(self, group: str | None) -> None:
        """Wait for a place and take it."""
        async with self._changed:
            await self._changed.wait_for(lambda: self.is_free(group))
            self.taken.append(group or "")

    async def give(self, group: str | None) -> None:
        """Give a place back."""
        async with self._changed:
            self.taken.remove(group or "")
            self._changed.notify_all()


async def carry_out_run(
    run: str,
    servers: Sequence[RunServer],
    limits: Mapping[str, int],
    world: World,
    places: Places | None = None,
) -> dict[str, str]:
    """Carry out or go on with a run; returns how each server ended.

    Servers that were under way when the engine died come first, since they may be away already.
    Cancelling leaves every tape as it is.

    Raises:
        TapeConflictError: another engine works on one of the servers; all others are let go.
    """
    places = places or Places(limits)
    begun = [s for s in servers if await world.journal.load(run, s.endpoint.name)]
    order = begun + [s for s in servers if s not in begun]
    ended: dict[str, str] = {}

    async def one(server: RunServer) -> None:
        await places.take(server.group)
        try:
            job = ServerRun(run, server.endpoint, world, server.back)
            ended[server.endpoint.name] = (await job.carry_out()).ended or ""
        finally:
            await places.give(server.group)

    jobs = [asyncio.create_task(one(server)) for server in order]
    try:
        await asyncio.gather(*jobs)
    except (TapeConflictError, asyncio.CancelledError):
        for job in jobs:
            job.cancel()
        await asyncio.gather(*jobs, return_exceptions=True)
        raise
    return ended
