"""Progress of work that is done in threads: counted at once, stored a few times a second."""

from __future__ import annotations

import asyncio
import contextlib
import threading
from collections.abc import Awaitable
from typing import TypeVar

from asgiref.sync import sync_to_async

from ordnung.server.work.models import Work
from ordnung.server.work.progress import bump

EVERY_S = 0.4
T = TypeVar("T")


class Gauge:
    """Counts what has gone by and keeps a work's bar up to date while something is awaited."""

    def __init__(self, work: Work) -> None:
        self.work, self.done, self._lock = work, 0, threading.Lock()

    def advance(self, amount: int) -> None:
        """So much more has gone by; from any thread."""
        with self._lock:
            self.done += amount

    async def follow(self, job: Awaitable[T]) -> T:
        """Await a job and store the progress until it ends."""
        ticking = asyncio.create_task(self._tick())
        try:
            return await job
        finally:
            ticking.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await ticking
            await self._store()

    async def _tick(self) -> None:
        stored = -1
        while True:
            if self.done != stored:
                stored = self.done
                await self._store()
            await asyncio.sleep(EVERY_S)

    async def _store(self) -> None:
        await sync_to_async(bump)(self.work, done=max(0, self.done))
