"""Keep a record of what controllers fetched."""

from __future__ import annotations

import asyncio

from asgiref.sync import sync_to_async

from ordnung.server.clock import now
from ordnung.server.repositories.models import PayloadFetch
from ordnung.server.work.events import tell
from ordnung.store.serve import Fetched


class FetchLog:
    """Stores each fetch without keeping the controller waiting."""

    def __init__(self) -> None:
        self._tasks: set[asyncio.Task[None]] = set()

    def record(self, fetched: Fetched) -> None:
        """A controller fetched something."""
        task = asyncio.ensure_future(sync_to_async(_store)(fetched))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def settle(self) -> None:
        """Wait until everything told is stored."""
        await asyncio.gather(*self._tasks)


def _store(fetched: Fetched) -> None:
    PayloadFetch.objects.create(
        run=int(fetched.run), server=fetched.server, sha256=fetched.sha256, protocol=fetched.protocol,
        address=fetched.address, start=fetched.start, bytes=fetched.bytes, whole=fetched.whole, at=now(),
    )  # fmt: skip
    tell("fetches", run=int(fetched.run))
