"""One task per web process reads new events from the database and hands them to every open stream."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator
from typing import Any

from asgiref.sync import sync_to_async
from django.db import connection

Told = tuple[int, str, dict[str, Any]]
POLL_S = 0.25
"""How soon an event of the engine reaches the browser at the latest; one indexed query each."""


class Hub:
    """Reads once, tells many. Streams subscribe first and replay afterwards, so that nothing falls between."""

    def __init__(self) -> None:
        self.queues: set[asyncio.Queue[Told | None]] = set()
        self.stopped = asyncio.Event()
        self.last: int | None = None
        self.loop: asyncio.AbstractEventLoop | None = None

    async def run(self) -> None:
        """Follow the events until stopped."""
        self.loop = asyncio.get_running_loop()
        self.last = await _newest()
        while not self.stopped.is_set():
            for event in await _after(self.last):
                self.last = event[0]
                for queue in self.queues:
                    queue.put_nowait(event)
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self.stopped.wait(), POLL_S)

    def stop(self) -> None:
        """End all streams; may be called from a signal handler."""
        if self.loop is not None and not self.loop.is_closed():
            self.loop.call_soon_threadsafe(self._stop)

    def _stop(self) -> None:
        self.stopped.set()
        for queue in self.queues:
            queue.put_nowait(None)

    @contextlib.asynccontextmanager
    async def subscribe(self) -> AsyncIterator[asyncio.Queue[Told | None]]:
        """A queue of everything that comes from now on."""
        queue: asyncio.Queue[Told | None] = asyncio.Queue()
        self.queues.add(queue)
        try:
            yield queue
        finally:
            self.queues.discard(queue)

    async def since(self, last: int | None) -> list[Told]:
        """What was missed since ``last``; nothing for a stream that begins."""
        return [] if last is None else await _after(last)


@sync_to_async
def _newest() -> int:
    from ordnung.server.work.models import Event

    try:
        newest = Event.objects.order_by("-pk").values_list("pk", flat=True).first()
        return newest or 0
    finally:
        connection.close()


@sync_to_async
def _after(last: int) -> list[Told]:
    from ordnung.server.work.models import Event

    try:
        rows = Event.objects.filter(pk__gt=last).order_by("pk")[:500]
        return [(row.pk, row.topic, row.body) for row in rows]
    finally:
        connection.close()


HUB = Hub()
