"""Every moment at which an engine can die, from one run: what it leaves behind there, for the next one to go on with."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from tests.simulation.world import House, MemoryJournal

LATER_S = 45.0
"""From its death to the next one's first look."""


async def deaths(house: House, when: str, carry: Callable[[House], Awaitable[object]]) -> list[tuple[int, House]]:
    """Carry a run out to its end: for each entry that it made (its number, what an engine leaves that dies there).

    ``when``: just ``before`` an entry is kept, or just ``after``. Nothing of the dead one goes on, not even what it
    would have done to leave in order; the next comes 45 s later.
    """
    house.journal = journal = Watched(house, when)
    await carry(house)
    assert len(journal.left) > 8, "a run of some length"
    for left in journal.left:
        left.clock.base += LATER_S
    return list(enumerate(journal.left, 1))


class Watched(MemoryJournal):
    """Keeps the house as it is at each entry."""

    def __init__(self, house: House, when: str) -> None:
        super().__init__(house.clock, house.journal.limits)
        self.tapes, self.states, self.turns = house.journal.tapes, house.journal.states, house.journal.turns
        self.house, self.is_before, self.left = house, {"before": True, "after": False}[when], []

    async def append(self, run, server, seq, value):
        before = self.house.twin() if self.is_before else None
        entry = await super().append(run, server, seq, value)
        self.left.append(before or self.house.twin())
        return entry
