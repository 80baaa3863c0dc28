"""How much of one limit is taken at any time: where there is room, and taking it."""

from __future__ import annotations

from bisect import bisect_left, bisect_right


class Profile:
    """How many hold places of one limit, over time, and when all are held.

    Usage only grows, so that what was found to have no room never has: ``free_from`` remembers.
    Intervals are half open (A14).
    """

    __slots__ = ("_counts", "_full_ends", "_full_starts", "_known", "_least", "_times", "capacity")

    def __init__(self, capacity: int, least: float = 0.0) -> None:
        """``capacity`` places; ``least`` seconds are the shortest that will ever be asked for."""
        self.capacity = capacity
        self._least = least
        self._times: list[float] = [float("-inf")]
        self._counts: list[int] = [0]
        self._full_starts: list[float] = []
        self._full_ends: list[float] = []
        self._known: dict[float, tuple[float, float]] = {}

    def copy(self) -> Profile:
        """The same, to be gone on with apart."""
        other = Profile(self.capacity, self._least)
        other._times, other._counts = self._times.copy(), self._counts.copy()
        other._full_starts, other._full_ends = self._full_starts.copy(), self._full_ends.copy()
        other._known = self._known.copy()
        return other

    def free_from(self, at: float, seconds: float) -> float:
        """The first moment from ``at`` on from which there is room for so many seconds."""
        if seconds <= 0:
            return at
        asked, known = at, self._known.get(seconds)
        if known is not None and known[0] <= at < known[1]:
            at = known[1]
        starts, ends = self._full_starts, self._full_ends
        place = bisect_right(ends, at)
        while place < len(starts) and starts[place] < at + seconds:
            at = ends[place]
            place += 1
        if known is not None and known[0] <= asked <= known[1]:
            self._known[seconds] = (known[0], max(at, known[1]))
        elif known is None or at - asked > known[1] - known[0]:
            self._known[seconds] = (asked, at)
        return at

    def clash(self, start: float, end: float) -> float | None:
        """When the first stretch without room in [start, end) is over; None if there is room throughout."""
        place = bisect_right(self._full_ends, start)
        if start < end and place < len(self._full_starts) and self._full_starts[place] < end:
            return self._full_ends[place]
        return None

    def take(self, start: float, end: float) -> None:
        """Hold one place over [start, end)."""
        if end <= start:
            return
        first, last = self._cut(start), self._cut(end)
        counts, times = self._counts, self._times
        for place in range(first, last):
            counts[place] += 1
            if counts[place] == self.capacity:
                self._fill(times[place], times[place + 1])

    def _cut(self, at: float) -> int:
        place = bisect_left(self._times, at)
        if place == len(self._times) or self._times[place] != at:
            self._times.insert(place, at)
            self._counts.insert(place, self._counts[place - 1])
        return place

    def _fill(self, start: float, end: float) -> None:
        """Note that there is no room in [start, end), nor in what is left beside it where nothing ever fits."""
        starts, ends, least = self._full_starts, self._full_ends, self._least
        first = bisect_right(ends, start - least) if least else bisect_left(ends, start)
        last = bisect_left(starts, end + least) if least else bisect_right(starts, end)
        if first < last:
            start, end = min(start, starts[first]), max(end, ends[last - 1])
        starts[first:last] = [start]
        ends[first:last] = [end]
