"""The site's clock: real time, or in a demo a clock that runs faster from a common start.

Every process of one site derives it from the same setting, ``RATE;REAL;CLOCK``: at the real moment
REAL (seconds since 1970) the clock showed CLOCK, and it runs RATE times as fast.
"""

from __future__ import annotations

import asyncio
import datetime
import time
from dataclasses import dataclass

SETTING = "ORDNUNG_CLOCK"
"""The environment variable that carries the setting from the supervisor to its processes."""


@dataclass(frozen=True, slots=True)
class SiteClock:
    """A clock that may run faster than real time. Durations given to it are in its own seconds."""

    rate: float = 1.0
    real: float = 0.0
    clock: float = 0.0

    def seconds(self) -> float:
        """Seconds since 1970 by this clock."""
        return self.clock + (time.time() - self.real) * self.rate

    def now(self) -> datetime.datetime:
        """The present by this clock, aware, UTC."""
        return datetime.datetime.fromtimestamp(self.seconds(), datetime.UTC)

    async def sleep(self, seconds: float) -> None:
        """Wait for so many of this clock's seconds."""
        await asyncio.sleep(max(0.0, seconds) / self.rate)

    def setting(self) -> str:
        """The setting that makes another process's clock equal to this one."""
        return f"{self.rate!r};{self.real!r};{self.clock!r}"


def parse_clock(setting: str | None) -> SiteClock:
    """The clock of a setting; None or empty is real time. Raises ValueError for anything else.

    >>> parse_clock("60.0;100.0;5.0").rate
    60.0
    """
    if not setting:
        return SiteClock()
    parts = [float(part) for part in setting.split(";")]
    if len(parts) != 3 or parts[0] <= 0:
        raise ValueError(f"{setting!r} is not RATE;REAL;CLOCK")
    return SiteClock(*parts)


def start_clock(rate: float, not_before: float = 0.0) -> SiteClock:
    """A clock that starts now, at the present or at ``not_before`` if that is later."""
    real = time.time()
    return SiteClock(rate, real, max(real, not_before))
