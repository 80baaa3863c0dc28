"""A true discrete-event clock: virtual time jumps to the next sleeper when everyone waits, and never before.

The event loop itself runs on virtual time, so that every ``sleep``, timeout and pause of the code under test is in
it; parallel sleepers don't add up. Work in threads (the database) is waited for in real time, with the clock still.
"""

from __future__ import annotations

import asyncio
import datetime
import selectors
from typing import Any

START = datetime.datetime(2026, 11, 23, 1, 0, tzinfo=datetime.UTC)


class _Selector(selectors.DefaultSelector):
    """Instead of waiting for a time-out, time goes on."""

    loop: VirtualLoop

    def select(self, timeout: float | None = None) -> Any:
        if self.loop.in_threads:
            return super().select(0 if timeout == 0 else 0.05)
        found = super().select(0)
        if not found and timeout is not None and timeout > 0:
            self.loop.passed += timeout
        elif not found and timeout is None:
            raise RuntimeError("everyone waits for something that never comes")
        return found


class VirtualLoop(asyncio.SelectorEventLoop):
    """An event loop whose time passes only when nothing else is to be done."""

    def __init__(self) -> None:
        self.passed, self.in_threads = 0.0, 0
        selector = _Selector()
        selector.loop = self
        super().__init__(selector)

    def time(self) -> float:
        return self.passed

    def run_in_executor(self, executor, func, *args):
        self.in_threads += 1
        future = super().run_in_executor(executor, func, *args)
        future.add_done_callback(self._done)
        return future

    def _done(self, _future) -> None:
        self.in_threads -= 1


class VirtualClock:
    """The site's clock over the running loop's time. ``t`` may be moved forward by hand between two lives."""

    def __init__(self) -> None:
        self.base = START.timestamp()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._seen = 0.0

    def seconds(self) -> float:
        try:
            loop = asyncio.get_running_loop()
        except RuntimeError:
            return self.base
        if loop is not self._loop:
            self._loop, self._seen = loop, loop.time()
        self.base, self._seen = self.base + loop.time() - self._seen, loop.time()
        return self.base

    def __deepcopy__(self, memo) -> VirtualClock:
        twin = VirtualClock()
        twin.base = self.seconds()
        return twin

    @property
    def t(self) -> float:
        return self.seconds()

    @t.setter
    def t(self, value: float) -> None:
        self.seconds()
        self.base = value

    def now(self) -> datetime.datetime:
        return datetime.datetime.fromtimestamp(self.seconds(), datetime.UTC)

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(max(0.0, seconds))


def run(job):
    """Carry a coroutine out on virtual time, from a test that is not one itself."""
    with asyncio.Runner(loop_factory=VirtualLoop) as runner:
        return runner.run(job)
