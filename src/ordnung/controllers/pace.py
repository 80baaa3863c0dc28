"""How many requests at once one controller bears: found out by going slowly up and quickly down."""

from __future__ import annotations

import asyncio
from collections import deque

STEADY = 8
"""Answers in a row before one more at once is tried."""


class Pace:
    """A gate whose width follows what the controller bears. Use with ``async with`` around one read."""

    def __init__(self, ceiling: int) -> None:
        self.ceiling, self.width = ceiling, min(2, ceiling)
        self._open = 0
        self._good = 0
        self._waiting: deque[asyncio.Future[None]] = deque()

    def raise_ceiling(self, ceiling: int) -> None:
        """The controller turned out to be able to do more."""
        self.ceiling = max(self.ceiling, ceiling)

    def slow_down(self) -> None:
        """It was busy or broke off: half as many from now on, at least one."""
        self.width, self._good = max(1, self.width // 2), 0

    async def __aenter__(self) -> None:
        if self._open >= self.width:
            place: asyncio.Future[None] = asyncio.get_running_loop().create_future()
            self._waiting.append(place)
            try:
                await place  # the one who leaves hands its place over
            except asyncio.CancelledError:
                if place.done() and not place.cancelled():
                    self._leave()
                raise
        else:
            self._open += 1

    async def __aexit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            self._good += 1
            if self._good >= STEADY and self.width < self.ceiling:
                self.width, self._good = self.width + 1, 0
        self._leave()

    def _leave(self) -> None:
        self._open -= 1
        while self._waiting and self._open < self.width:
            place = self._waiting.popleft()
            if not place.done():
                self._open += 1
                place.set_result(None)
