"""The timetable: each server's steps laid into the night, under all limits at once (T1 to T12).

Serial schedule generation: one server after the other takes the earliest end that is left (``placing``). In which
order is tried several times, wave by wave (``orders``); the best is kept. The same input, in whatever order it is
given, has the same answer.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from ordnung.core.away import limits_of
from ordnung.core.night.bound import find_bound, wave_bound
from ordnung.core.night.itinerary import Duty, Itinerary, plan_itinerary, round_minutes
from ordnung.core.night.limits import NightLimits, Wave, Window, join_windows
from ordnung.core.night.orders import improve_order
from ordnung.core.night.placing import Board, Placed, find_place

ENDLESS = float("inf")


@dataclass(frozen=True, slots=True, kw_only=True)
class Left:
    """A server that is left over, and why (T10)."""

    server: str
    reason: str


class WishRefusedError(ValueError):
    """A person wished what a rule does not allow: the server, and the rule in words. Nothing is bent for it (T11)."""

    def __init__(self, server: str, why: str) -> None:
        self.server, self.why = server, why
        super().__init__(f"{server} can't begin just then: {why}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Seat:
    """A placed server and the wave it goes with (None without waves)."""

    placed: Placed
    wave: str | None
    window: Window | None

    @property
    def server(self) -> str:
        """Its name."""
        return self.placed.itinerary.server


@dataclass(frozen=True, slots=True, kw_only=True)
class Timetable:
    """Who goes when, who is left over, when it is over and when it could be at the earliest (seconds; A33)."""

    seats: tuple[Seat, ...]
    left: tuple[Left, ...]
    bound: float

    @property
    def makespan(self) -> float:
        """The end of the last step."""
        return max((seat.placed.end for seat in self.seats), default=0.0)

    @property
    def ratio(self) -> float:
        """Makespan to bound, to three places."""
        return round(self.makespan / self.bound, 3) if self.bound else 1.0


@dataclass(frozen=True, eq=False)
class Laid:
    """One way to lay a wave: who got a place, who got none."""

    placed: tuple[Placed, ...]
    missed: tuple[Itinerary, ...]
    board: Board

    @cached_property
    def worth(self) -> tuple[float, ...]:
        """Smaller is better: few left over, an early end, early ends."""
        ends = [p.end for p in self.placed]
        return (len(self.missed), max(ends, default=0.0), sum(ends))


def plan_timetable(
    duties: Iterable[Duty | Itinerary],
    limits: NightLimits,
    *,
    tries: int | None = None,
    dropped: Mapping[str, str] | None = None,
) -> Timetable:
    """Lay out what servers have to do; those with nothing to do are in neither list.

    Args:
        duties: each server once; an itinerary where it is at hand, made with the same seconds for link and groups.
        limits: what is to be kept; windows in seconds from the start.
        tries: how many orders are tried a wave; by default as many as their number allows.
        dropped: servers that are left over whatever there is room for, with the reason (F4).

    Raises:
        WishRefusedError: a server is pinned to a time at which it can't begin.
    """
    itineraries = sorted(_itineraries(duties, limits), key=lambda i: i.server)
    windows = None if limits.windows is None else join_windows(limits.windows)
    waves, left = _sort_into_waves(itineraries, limits)
    board = Board(limits, itineraries)
    seats: list[Seat] = []
    since = 0.0
    barred: str | None = None
    for wave, members in waves:
        if barred is not None:
            left += [Left(server=i.server, reason=f"waits for {barred}") for i in members]
            continue
        able, out = _apart(members, board, dropped or {})
        begin = max(since, wave.not_before) if wave is not None else since
        pinned = _lay_pinned(able, board, windows, begin)
        free = [i for i in able if i.server not in {p.itinerary.server for p in pinned}]
        laid = _lay_best(free, board, windows, begin, tries)
        board = laid.board
        out += [Left(server=i.server, reason=_why_left(i, board, windows or (), begin)) for i in laid.missed]
        seats += [_seat(p, wave, windows) for p in (*pinned, *laid.placed)]
        left += out
        if wave is not None and wave.holds and out:
            barred = min(o.server for o in out)
        since = max([since, *(p.end for p in pinned), *(p.end for p in laid.placed)])
        if wave is not None and members:
            since += wave.wait_seconds
    placed = [[s.placed for s in seats if s.wave == (w.name if w else None)] for w, _ in waves]
    waits = [w.wait_seconds if w else 0.0 for w, _ in waves]
    return Timetable(
        seats=tuple(sorted(seats, key=lambda s: (s.placed.begins, s.server))),
        left=tuple(sorted(left, key=lambda o: o.server)),
        bound=find_bound(
            [([p.itinerary for p in ps], w) for ps, w in zip(placed, waits, strict=True)], limits, windows
        ),
    )


def _itineraries(duties: Iterable[Duty | Itinerary], limits: NightLimits) -> Iterator[Itinerary]:
    for duty in duties:
        if isinstance(duty, Itinerary):
            yield duty
        elif duty.route.rounds:
            yield plan_itinerary(duty, limits)


def _seat(placed: Placed, wave: Wave | None, windows: Sequence[Window] | None) -> Seat:
    window = next((w for w in windows or () if w.start <= placed.begins and placed.end <= w.end), None)
    return Seat(placed=placed, wave=wave.name if wave else None, window=window)


def _sort_into_waves(
    itineraries: Sequence[Itinerary], limits: NightLimits
) -> tuple[list[tuple[Wave | None, list[Itinerary]]], list[Left]]:
    """Waves in order with who of them has anything to do; who is in none is left over (A22, A24)."""
    if not limits.waves:
        return [(None, list(itineraries))], []
    named = {server: wave for wave in limits.waves for server in wave.servers or ()}
    rest = next((wave for wave in limits.waves if wave.servers is None), None)
    of = {i.server: named.get(i.server, rest) for i in itineraries}
    found = [(wave, [i for i in itineraries if of[i.server] is wave]) for wave in limits.waves]
    left = [Left(server=i.server, reason="in no wave") for i in itineraries if of[i.server] is None]
    return [(wave, members) for wave, members in found if members], left


def _apart(
    members: Sequence[Itinerary], board: Board, dropped: Mapping[str, str]
) -> tuple[list[Itinerary], list[Left]]:
    """Who can go away at all, and who never can because a limit is used up (A17) or its chance is too small (F4)."""
    able, out = [], []
    for itinerary in members:
        if itinerary.server in dropped:
            out.append(Left(server=itinerary.server, reason=dropped[itinerary.server]))
            continue
        full = board.used_up(itinerary.place) if itinerary.aways else None
        if full is None:
            able.append(itinerary)
        else:
            out.append(Left(server=itinerary.server, reason=str(full)))
    return able, out


def _lay_pinned(
    able: Sequence[Itinerary], board: Board, windows: Sequence[Window] | None, since: float
) -> list[Placed]:
    """Those that a person pinned, at their times, before all others; in order of time, so that the first is kept."""
    wishes = board.limits.wish_of
    pinned = sorted((wishes[i.server].at, i.server, i) for i in able if i.server in wishes and wishes[i.server].pinned)
    found = []
    for at, server, itinerary in pinned:
        if at < since:
            raise WishRefusedError(server, f"its wave begins {round_minutes(since - at)} min later")
        window = next((w for w in windows if w.start <= at < w.end), None) if windows is not None else None
        if windows is not None and window is None:
            raise WishRefusedError(server, "no window is open")
        placed = find_place(itinerary, board, at, ENDLESS if window is None else window.end)
        if placed is None:
            raise WishRefusedError(server, f"it needs {round_minutes(itinerary.main_seconds)} min, the window ends")
        if placed.begins > at:
            late = round_minutes(placed.begins - at)
            raise WishRefusedError(server, f"{_what_bars(itinerary, board, at)}; {late} min later it may")
        board.take(placed)
        found.append(placed)
    return found


def _what_bars(itinerary: Itinerary, board: Board, at: float) -> str:
    """The first limit without which it could begin just then, in words."""
    for kind, name, allowed in limits_of(itinerary.place, board.limits.away):
        spared = dataclasses.replace(
            itinerary.place,
            groups=tuple(g for g in itinerary.place.groups if (kind, g) != ("group", name)),
            rack=None if kind == "rack" else itinerary.place.rack,
            room=None if kind == "room" else itinerary.place.room,
        )
        tried = find_place(dataclasses.replace(itinerary, place=spared), board, at, ENDLESS)
        if tried is not None and tried.begins <= at:
            return f"{kind} {name} allows {allowed} away, and that many are"
    return f"{board.limits.at_once} servers are worked on at once already, or the link is taken"


def _lay_best(
    members: Sequence[Itinerary], board: Board, windows: Sequence[Window] | None, since: float, tries: int | None
) -> Laid:
    begin = max(since, windows[0].start) if windows else since
    bound = begin + wave_bound(members, board.limits)

    def lay(order: Sequence[Itinerary]) -> Laid:
        return _lay(order, board.copy(), windows, since)

    return improve_order(members, lay, board.limits, tries, bound)


def _lay(order: Sequence[Itinerary], board: Board, windows: Sequence[Window] | None, since: float) -> Laid:
    placed, missed = [], []
    for itinerary in order:
        found = _place(itinerary, board, windows, since)
        if found is None:
            missed.append(itinerary)
        else:
            board.take(found)
            placed.append(found)
    return Laid(tuple(placed), tuple(missed), board)


def _place(itinerary: Itinerary, board: Board, windows: Sequence[Window] | None, since: float) -> Placed | None:
    wish = board.limits.wish_of.get(itinerary.server)
    since = since if wish is None else max(since, wish.at)
    if windows is None:
        return find_place(itinerary, board, since, ENDLESS)
    for window in windows:
        if window.end - max(since, window.start) >= itinerary.main_seconds:
            found = find_place(itinerary, board, max(since, window.start), window.end)
            if found is not None:
                return found
    return None


def _why_left(itinerary: Itinerary, board: Board, windows: Sequence[Window], since: float) -> str:
    """What it needs, and what is left for it where it would fit best."""
    needs = round_minutes(itinerary.main_seconds)
    longest = max((w.end - max(since, w.start) for w in windows if w.end > since), default=0.0)
    if not windows or longest <= 0:
        return f"needs {needs} min, no window is left"
    if longest < itinerary.main_seconds:
        return f"needs {needs} min, {int(longest // 60)} are left"
    tried = [(w, p) for w in windows if (p := find_place(itinerary, board, max(since, w.start), ENDLESS)) is not None]
    window, placed = max(tried, key=lambda pair: pair[0].end - pair[1].begins)
    left = max(0, int((window.end - placed.begins) // 60))
    took = round_minutes(placed.end - placed.begins)
    return (
        f"needs {took} min with its waits, {left} are left" if left >= needs else f"needs {needs} min, {left} are left"
    )
