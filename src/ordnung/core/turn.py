"""Whether it is a server's turn by its sheet: waves, waits, gates, windows, what a person put later (T7, T9, P2).

Beside ``core.away``, which knows the site's limits and nothing of the sheet; the engine asks both before it begins.
"""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.night.itinerary import round_minutes

Span = tuple[datetime.datetime, datetime.datetime]
"""A window: aware instants."""


@dataclass(frozen=True, slots=True, kw_only=True)
class WaveStand:
    """How an earlier wave stands: who of it has not ended, when the last one did, what has to pass after it.

    ``troubled`` names those that failed or were left over; ``gate`` a wave after which a person decides; ``opened``
    that somebody has.
    """

    name: str
    working: tuple[str, ...] = ()
    troubled: tuple[str, ...] = ()
    ended_at: datetime.datetime | None = None
    wait_seconds: float = 0.0
    gate: bool = False
    opened: bool = False
    failed: int = 0
    servers: int = 0
    """How many of it failed, and how many there are."""
    stop_share: float = 1.0
    """If more than this share of them fail, the rest does not start until a person says so (N6.5)."""

    @property
    def has_failed(self) -> bool:
        """Whether so many of it failed that nobody else begins by himself."""
        return not self.opened and self.servers > 0 and self.failed > self.stop_share * self.servers

    @property
    def holds(self) -> bool:
        """Whether what comes after it waits for more than its end (A23)."""
        return self.gate or self.wait_seconds > 0

    @property
    def asks(self) -> bool:
        """Whether a person has to say that it goes on: at a gate, or when someone of a wave that holds has trouble."""
        if self.has_failed:
            return True
        return not self.working and not self.opened and (self.gate or (self.holds and bool(self.troubled)))


@dataclass(frozen=True, slots=True, kw_only=True)
class Turn:
    """What a sheet says of when one server may begin. ``windows`` None: at any time.

    ``needs_seconds``: how long it will take as surely as the sheet asks for.
    """

    server: str
    wave: str = ""
    before: tuple[WaveStand, ...] = ()
    own: WaveStand | None = None
    """Its own wave; of a sheet without waves, all that is on it."""
    windows: tuple[Span, ...] | None = None
    needs_seconds: float = 0.0
    not_before: datetime.datetime | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class NotYet:
    """Why a server's turn has not come. ``never``: it will not come any more in this run.

    ``kept`` as in ``away.Refusal``: only a person's wait has no end of its own, and a wave takes its time.
    """

    limit: str
    why: str
    never: bool = False
    kept: bool = False

    def __str__(self) -> str:
        return self.why


def may_turn(turn: Turn, now: datetime.datetime) -> NotYet | None:
    """Whether a server may begin by its sheet; None: it may."""
    window = _in_window(turn, now)
    if window is not None and window.never:
        return window  # said as soon as it is known, not when a person has let the wave go
    for wave in (*turn.before, *([turn.own] if turn.own is not None else [])):
        if wave.has_failed:
            return NotYet(limit="gate", why=_tell_failed(wave))
    for wave in turn.before:
        found = _after(wave, now)
        if found is not None:
            return found
    if turn.not_before is not None and now < turn.not_before:
        return NotYet(limit="not before", why=f"not before {tell_time(turn.not_before)}, as the sheet says")
    return window


def _tell_failed(wave: WaveStand) -> str:
    which = f" of {wave.name}" if wave.name else ""
    return f"{wave.failed} of {wave.servers} servers{which} failed; a person lets the others go on"


def _after(wave: WaveStand, now: datetime.datetime) -> NotYet | None:
    if wave.working:
        who = ", ".join(wave.working[:3]) + (f" and {len(wave.working) - 3} more" if len(wave.working) > 3 else "")
        return NotYet(limit="wave", why=f"{wave.name} is not done: {who}")
    if wave.asks:
        why = f": {', '.join(wave.troubled)} did not go well" if wave.troubled else ""
        return NotYet(limit="gate", why=f"a person lets it go on after {wave.name}{why}")
    if wave.ended_at is not None:
        until = wave.ended_at + datetime.timedelta(seconds=wave.wait_seconds)
        if now < until:
            return NotYet(limit="wait", why=f"{wave.name} is left to run until {tell_time(until)}")
    return None


def _in_window(turn: Turn, now: datetime.datetime) -> NotYet | None:
    if turn.windows is None:
        return None
    needs = datetime.timedelta(seconds=turn.needs_seconds)
    fitting = [(start, end) for start, end in sorted(turn.windows) if max(start, now) + needs <= end]
    if fitting:
        start, _ = fitting[0]
        return None if start <= now else NotYet(limit="window", why=f"the window opens at {tell_time(start)}")
    left = max((int((end - max(start, now)).total_seconds() // 60) for start, end in turn.windows), default=0)
    minutes = round_minutes(turn.needs_seconds)
    why = f"needs {minutes} min, {left} are left" if left > 0 else f"needs {minutes} min, no window is left"
    return NotYet(limit="window", why=why, never=True)


def bars_reset(windows: Sequence[Span] | None, now: datetime.datetime) -> str:
    """Why no reset may begin now (T9); empty when it may."""
    if windows is None or any(start <= now < end for start, end in windows):
        return ""
    comes = min((start for start, _ in windows if start > now), default=None)
    if comes is not None:
        return f"outside the window, which opens at {tell_time(comes)}"
    closed = max(end for _, end in windows)
    return f"the window closed at {tell_time(closed)}; a person may put its end later"


def tell_time(moment: datetime.datetime) -> str:
    """An instant, to the minute, in the zone it comes in; the day by the caller's side."""
    return f"{moment:%H:%M}"
