"""What a night has to keep: who may be away, what may go on at once, waves and windows (T2, T5 to T9).

Times are seconds from the timetable's start.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from ordnung.core.away import AT_ONCE, AwayLimits, AwayPlace

TRANSFERS = 4
"""Transfers over one link at once, unless something else is said (A9)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupLimit:
    """How many of a group may be away (None: no limit) and what moving work off and back takes, in seconds (T4, T5)."""

    name: str
    may_be_away: int | None = None
    heal_seconds: float = 0.0
    off_seconds: float = 0.0
    back_seconds: float = 0.0
    between: bool = False

    def with_more(self, places: int = 1) -> GroupLimit:
        """The same with so many places more."""
        return self if self.may_be_away is None else dataclasses.replace(self, may_be_away=self.may_be_away + places)


@dataclass(frozen=True, slots=True, kw_only=True)
class Wave:
    """Servers that go together; ``servers`` None takes the rest. ``wait_seconds`` and ``gate`` stand after it (A21)."""

    name: str
    servers: tuple[str, ...] | None = None
    wait_seconds: float = 0.0
    gate: str = "none"
    not_before: float = 0.0
    """A person's wish: none of it begins earlier (T11)."""

    @property
    def holds(self) -> bool:
        """Whether what comes after it waits for all of it (A23)."""
        return self.wait_seconds > 0 or self.gate != "none"


@dataclass(frozen=True, slots=True, kw_only=True)
class Wish:
    """What a person wants of one server (T11): that it begins no earlier than ``at``, or, ``pinned``, just then."""

    server: str
    at: float
    pinned: bool = False


@dataclass(frozen=True, slots=True, order=True)
class Window:
    """A stretch of time in which resets may be (T9)."""

    start: float
    end: float


@dataclass(frozen=True, kw_only=True)
class NightLimits:
    """Everything a timetable obeys. ``windows`` None: no such limit; ``certainty`` as in F4."""

    at_once: int = AT_ONCE
    transfers: int = TRANSFERS
    bytes_per_second: int | None = None
    groups: tuple[GroupLimit, ...] = ()
    racks: dict[str, int] = field(default_factory=dict)
    rooms: dict[str, int] = field(default_factory=dict)
    waves: tuple[Wave, ...] = ()
    windows: tuple[Window, ...] | None = None
    ahead: str = "nothing"
    certainty: float | None = None
    occupied: tuple[AwayPlace, ...] = ()
    wishes: tuple[Wish, ...] = ()
    """At most one a server."""
    holds_early: bool = False
    """Whether a place among those away is held from the first step that is not ahead (docs/adr/0015), not only while
    away. The engine does so as yet; a timetable for it has to."""

    def changed(self, **facts: Any) -> NightLimits:
        """The same but for what is named."""
        return dataclasses.replace(self, **facts)

    def group(self, name: str) -> GroupLimit:
        """The limit of a group; one that nothing is said of has none."""
        return self._by_name.get(name) or GroupLimit(name=name)

    @cached_property
    def _by_name(self) -> dict[str, GroupLimit]:
        return {group.name: group for group in self.groups}

    @cached_property
    def wish_of(self) -> dict[str, Wish]:
        """What is wished of servers, by name."""
        return {wish.server: wish for wish in self.wishes}

    @cached_property
    def away(self) -> AwayLimits:
        """The numbers, as the one function that decides asks for them (T13)."""
        groups = {g.name: g.may_be_away for g in self.groups if g.may_be_away is not None}
        return AwayLimits(groups=groups, racks=self.racks, rooms=self.rooms, at_once=self.at_once)


def join_windows(windows: Sequence[Window]) -> tuple[Window, ...]:
    """Windows in order from second 0 on; those that touch or overlap are one, those that are over are none (A29)."""
    joined: list[Window] = []
    for window in sorted(windows):
        start = max(0.0, window.start)
        if window.end <= start:
            continue
        if joined and start <= joined[-1].end:
            joined[-1] = Window(joined[-1].start, max(joined[-1].end, window.end))
        else:
            joined.append(Window(start, window.end))
    return tuple(joined)
