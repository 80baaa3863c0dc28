"""Places of one limit over many samples at once: when each is free, and taking one (for the forecast)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from ordnung.core.night.durations import Samples

MOST = 48
"""A limit with more places is looked at in parts: which part is next goes round. So large a limit seldom binds."""


@dataclass(frozen=True, slots=True)
class Held:
    """A place that is held, in each sample, and the number of whoever holds it."""

    part: int
    place: npt.NDArray[np.intp]
    holder: int


class Slots:
    """``places`` for each of ``samples``; times in seconds."""

    def __init__(self, samples: int, places: int) -> None:
        self._rows = np.arange(samples)
        parts = max(1, -(-places // MOST))
        size = -(-places // parts)
        self._free = [np.zeros((size, samples)) for _ in range(parts)]
        self._expected = [np.zeros((size, samples)) for _ in range(parts)]
        self._holder = [np.full((size, samples), -1) for _ in range(parts)]
        self._next = 0

    def first(self) -> Samples:
        """When the next place is free."""
        return np.asarray(self._free[self._next % len(self._free)].min(axis=0))

    def foreseen(self, lead: float) -> Samples:
        """When one may begin that needs a place ``lead`` seconds later, by what is expected of the holders."""
        part = self._next % len(self._free)
        return np.asarray(np.minimum(self._free[part], self._expected[part] - lead).min(axis=0))

    def hold(self, at: Samples, until: Samples, expected: Samples | None = None) -> Held:
        """Take the place that was free for the shortest time, until then; ``expected`` is when others believe that."""
        part = self._next % len(self._free)
        free = self._free[part]
        if len(free) == 1:
            place = np.zeros(len(self._rows), dtype=np.intp)
        else:
            fits = np.where(free <= at, free, -np.inf)
            place = fits.argmax(axis=0)
            none = fits.max(axis=0) == -np.inf
            if none.any():
                place = np.where(none, free.argmin(axis=0), place)
        free[place, self._rows] = until
        self._expected[part][place, self._rows] = until if expected is None else expected
        self._holder[part][place, self._rows] = self._next
        self._next += 1
        return Held(part, place, self._next - 1)

    def put_off(self, held: Held, by: Samples) -> None:
        """It is held the longer, where nobody else counts on it already."""
        still = self._holder[held.part][held.place, self._rows] == held.holder
        self._free[held.part][held.place, self._rows] += np.where(still, by, 0.0)

    def give_back(self, held: Held, at: Samples) -> None:
        """It is free from ``at`` on, where nobody else holds it already."""
        still = self._holder[held.part][held.place, self._rows] == held.holder
        known = self._free[held.part][held.place, self._rows]
        self._free[held.part][held.place, self._rows] = np.where(still, at, known)


class Link:
    """Transfers over one link: short, and not in the order in which they were planned, so each may go between others.

    The latest bookings are remembered; what lies further back than they reach no longer matters.
    """

    def __init__(self, samples: int, transfers: int) -> None:
        self._transfers = transfers
        kept = 3 * transfers + 12
        self._starts = np.full((kept, samples), np.inf)
        self._ends = np.full((kept, samples), -np.inf)
        self._next = 0

    def first(self, ready: Samples, seconds: Samples) -> Samples:
        """When each may begin at the earliest."""
        at = ready.copy()
        while True:
            over = (self._starts < at + seconds) & (self._ends > at)
            full = over.sum(axis=0) >= self._transfers
            if not full.any():
                return at
            later = np.where(over, self._ends, np.inf).min(axis=0)
            at = np.where(full, later, at)

    def hold(self, start: Samples, end: Samples) -> None:
        """Book a transfer."""
        place = self._next % len(self._starts)
        self._starts[place], self._ends[place] = start, end
        self._next += 1
