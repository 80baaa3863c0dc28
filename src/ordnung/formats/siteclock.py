"""The site's clock: real time, or in a demo a clock that runs faster from a common start.

Every process of one site derives it from the same setting, ``RATE;REAL;CLOCK``: at the real moment
REAL (seconds since 1970) the clock showed CLOCK, and it runs RATE times as fast.
"""

from __future__ import annotations

import asyncio
import datetime
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

SETTING = "ORDNUNG_CLOCK"
"""The environment variable that carries the setting from the supervisor to its processes."""


@dataclass(slots=True)
class SiteClock:
    """A clock that may run faster than real time and never goes back, though the machine's may be set back.

    Durations given to it are in its own seconds.
    """

    rate: float = 1.0
    real: float = 0.0
    clock: float = 0.0
    latest: float = field(default=0.0, compare=False, repr=False)

    def seconds(self) -> float:
        """Seconds since 1970 by this clock; never less than it said before in this process."""
        self.latest = max(self.latest, self.clock + (time.time() - self.real) * self.rate)
        return self.latest

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


AHEAD_S = 20.0
"""Real seconds by which the kept time is ahead: whatever kills the process, no moment was given out beyond it."""


def read_kept(path: Path) -> float:
    """The time that a clock may not go back behind; 0 where none was kept."""
    try:
        return float(path.read_text())
    except (OSError, ValueError):
        return 0.0


def keeper(path: Path, clock: SiteClock) -> Callable[[], None]:
    """What keeps a clock from going back over restarts: to be called often; it writes when half of its lead is used."""
    kept = 0.0

    def keep() -> None:
        nonlocal kept
        if clock.seconds() + AHEAD_S * clock.rate / 2 > kept:
            kept = clock.seconds() + AHEAD_S * clock.rate
            keep_time(path, kept)

    return keep


def keep_time(path: Path, seconds: float) -> None:
    """Keep a moment that the clock may not go back behind, whole or not at all."""
    temporary = path.with_suffix(".new")
    temporary.write_text(repr(seconds))
    temporary.replace(path)
