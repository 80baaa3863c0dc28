"""What a timetable will probably come to: many nights played through by the same rules (F1 to F6, A38).

Not the planned starts are played but the policy: each server in the timetable's order begins when its limits let it.
One server at a time, over all samples at once.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from ordnung.core.away import AwayPlace, limits_of
from ordnung.core.night.durations import Durations, History, Samples
from ordnung.core.night.itinerary import Itinerary, Stretch
from ordnung.core.night.limits import NightLimits
from ordnung.core.night.slots import Held, Link, Slots
from ordnung.core.night.timetable import Seat, Timetable

LOOKED_AT = 64
"""What delays is counted in so many of the samples."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Quantiles:
    """When half, nine in ten and 99 in 100 are done (seconds from the start)."""

    p50: float
    p90: float
    p99: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Chance:
    """One server: when it is done, and its chance to be so inside its window (None without windows)."""

    server: str
    done: Quantiles
    in_time: float | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Binding:
    """The limit that delayed most, and by how many minutes of servers."""

    limit: str
    server_minutes: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """The answer (F3)."""

    samples: int
    seed: int
    end: Quantiles
    waves: dict[str, Quantiles]
    servers: tuple[Chance, ...]
    binds: Binding | None
    delays: tuple[Binding, ...] = ()


@dataclass(frozen=True, slots=True)
class Happened:
    """What is known of a step that has begun: seconds from the start; ``end`` None while it goes on (F5)."""

    start: float
    end: float | None = None


Story = Mapping[str, Sequence[Happened]]
"""By server, what has happened of its first steps."""


def forecast(
    timetable: Timetable,
    limits: NightLimits,
    *,
    samples: int,
    seed: int = 0,
    history: History | None = None,
    story: Story | None = None,
    now: float = 0.0,
) -> Forecast:
    """Play the night so many times.

    Args:
        history: kept durations (F1).
        story: what has happened by ``now``; what has not begun begins no earlier than that.
    """
    night = _Night(timetable, limits, Durations(samples, seed, history), story or {}, now)
    night.play()
    ends = night.ends
    waves = {seat.wave for seat in timetable.seats if seat.wave is not None}
    return Forecast(
        samples=samples,
        seed=seed,
        end=_quantiles(_latest(ends.values(), samples)),
        waves={
            w: _quantiles(_latest((ends[s.server] for s in timetable.seats if s.wave == w), samples)) for w in waves
        },
        servers=tuple(
            Chance(
                server=seat.server,
                done=_quantiles(ends[seat.server]),
                in_time=float(np.mean(ends[seat.server] <= seat.window.end)) if seat.window else None,
            )
            for seat in sorted(timetable.seats, key=lambda seat: seat.server)
        ),
        binds=next(iter(night.delays()), None),
        delays=night.delays(),
    )


def _latest(ends: Iterable[Samples], samples: int) -> Samples:
    latest = np.zeros(samples)
    for end in ends:
        np.maximum(latest, end, out=latest)
    return latest


def _quantiles(values: Samples) -> Quantiles:
    p50, p90, p99 = (float(v) for v in np.quantile(values, (0.5, 0.9, 0.99)))
    return Quantiles(p50=p50, p90=p90, p99=p99)


@dataclass(slots=True)
class _Going:
    """One server as it goes: how far each sample is, what is still to come, and which places it holds."""

    seat: Seat
    stretches: dict[int, Stretch]
    turns: dict[int, int]
    """The steps with which it takes a place among those at once, and those after which it gives it back (T6)."""
    at: Samples
    seconds: list[Samples] = field(default_factory=list)
    """What each step takes: drawn when the server begins, so that others know when its places will be free."""
    work: Held | None = None
    away: dict[tuple[str, str], Held] = field(default_factory=dict)

    @property
    def itinerary(self) -> Itinerary:
        return self.seat.placed.itinerary

    def remaining(self, first: int, last: int) -> Samples:
        """What the steps from one to another take."""
        return np.asarray(sum(self.seconds[first : last + 1]))


class _Night:
    """The night as it is played: step after step in the timetable's order.

    A place among those at once is held from a server's first step that is not ahead until it rests by the timetable, or
    is done. Steps ahead go when they were planned, or when the link lets them.
    """

    def __init__(
        self, timetable: Timetable, limits: NightLimits, durations: Durations, story: Story, now: float
    ) -> None:
        self._limits, self._durations = limits, durations
        self._story, self._now = story, now
        self._link = Link(durations.samples, limits.transfers)
        self._at_once = Slots(durations.samples, limits.at_once)
        self._away: dict[tuple[str, str], Slots] = {}
        self._occupied = {place.server: place for place in limits.occupied}
        self._delays: dict[str, float] = {}
        self._release = _Releases(timetable, limits, durations.samples)
        nothing = np.zeros(durations.samples)
        self._going = {
            seat.server: _Going(seat, {s.first: s for s in seat.placed.itinerary.stretches}, _turns(seat), nothing)
            for seat in timetable.seats
        }

    @property
    def ends(self) -> dict[str, Samples]:
        """When each server was done."""
        return {name: going.at for name, going in self._going.items()}

    def delays(self) -> tuple[Binding, ...]:
        """What delayed, most first."""
        found = sorted(self._delays.items(), key=lambda pair: (-pair[1], pair[0]))
        return tuple(Binding(limit=name, server_minutes=round(s / 60, 1)) for name, s in found if s >= 30)

    def play(self) -> None:
        steps = [
            (*self._turn(going, number), server, number)
            for server, going in self._going.items()
            for number in range(len(going.itinerary.steps))
        ]
        for *_, server, number in sorted(steps):
            self._play_step(self._going[server], number)

    def _turn(self, going: _Going, number: int) -> tuple[bool, float, float]:
        """What has happened comes first, then what was planned, in order of time."""
        told = self._story.get(going.seat.server, ())
        if number < len(told):
            return (False, told[number].start, told[number].end or np.inf)
        start = going.seat.placed.starts[number]
        return (True, start, start + going.itinerary.steps[number].seconds)

    def _play_step(self, going: _Going, number: int) -> None:
        itinerary, told = going.itinerary, self._story.get(going.seat.server, ())
        if not number:
            steps = range(len(itinerary.steps))
            going.seconds = [self._seconds(itinerary, n, told[n] if n < len(told) else None) for n in steps]
        seconds = going.seconds[number]
        opens = next((last for first, last in itinerary.holds if first == number), None)
        if number < len(told):
            going.at = np.full(self._durations.samples, told[number].start)
        else:
            self._wait(going, number, opens is not None, seconds)
        if number in going.turns:
            going.work = self._at_once.hold(going.at, going.at + going.remaining(number, going.turns[number]))
        if opens is not None:
            self._go_away(going, number, opens)
        if itinerary.steps[number].kind == "staging":
            self._link.hold(going.at, going.at + seconds)
        going.at = going.at + seconds
        if number == len(itinerary.steps) - 1:
            self._release.ended(going.seat, going.at)
            going.seconds = []

    def _seconds(self, itinerary: Itinerary, number: int, happened: Happened | None) -> Samples:
        if happened is not None and happened.end is not None:
            return np.full(self._durations.samples, happened.end - happened.start)
        elapsed = max(0.0, self._now - happened.start) if happened is not None else 0.0
        return self._durations.draw(itinerary.server, itinerary.model, itinerary.steps[number], elapsed)

    def _wait(self, going: _Going, number: int, opens: bool, seconds: Samples) -> None:
        """Put off a step until everything lets it begin; count what it was that did not."""
        itinerary, was = going.itinerary, going.at
        ready = np.maximum(was, self._now)
        asked: list[tuple[str, Samples]] = []
        if number < itinerary.ahead:
            ready = np.maximum(ready, going.seat.placed.starts[number])
        if number == itinerary.ahead:
            ready = np.maximum(ready, self._release.of(going.seat))
        if number in going.turns:
            asked.append(("servers at once", self._at_once.first()))
        if number in going.stretches:
            asked += self._foreseen(going, going.stretches[number])
        if opens:
            asked += [(_tell(key), self._free(going, key)) for key in self._keys(itinerary.place)]
        going.at = ready
        for _, free in asked:
            going.at = np.maximum(going.at, free)
        if itinerary.steps[number].kind == "staging":
            going.at = self._link.first(going.at, seconds)
            asked.append(("the link", going.at))
        self._count(asked, ready, going.at)
        self._put_off(going, number, going.at - was)

    def _put_off(self, going: _Going, number: int, by: Samples) -> None:
        """What a server holds it holds the longer."""
        if going.work is not None and by.any():
            self._at_once.put_off(going.work, by)
        within = any(first < number <= last for first, last in going.itinerary.holds)
        if within and by.any():
            for key, held in going.away.items():
                self._slots(key).put_off(held, by)

    def _count(self, asked: Sequence[tuple[str, Samples]], ready: Samples, begun: Samples) -> None:
        part = slice(0, min(LOOKED_AT, self._durations.samples))
        late = begun[part] - ready[part]
        if not asked or not late.any():
            return
        for name, free in asked:
            delayed = (free[part] >= begun[part]) & (late > 0)
            self._delays[name] = self._delays.get(name, 0.0) + float(np.mean(np.where(delayed, late, 0.0)))
            late = np.where(delayed, 0.0, late)

    def _foreseen(self, going: _Going, stretch: Stretch) -> list[tuple[str, Samples]]:
        """When, by planned seconds, its places will be free when it needs them (A38)."""
        lead = stretch.opens if stretch.opens is not None else stretch.aways[0][0] if stretch.aways else None
        keys = [key for key in self._keys(going.itinerary.place) if key not in going.away]
        return [] if lead is None else [(_tell(key), self._slots(key).foreseen(lead)) for key in keys]

    def _go_away(self, going: _Going, first: int, last: int) -> None:
        planned = sum(step.seconds for step in going.itinerary.steps[first : last + 1])
        until = going.at + going.remaining(first, last)
        for key in self._keys(going.itinerary.place):
            slots, healing = self._slots(key), self._healing(key)
            if key in going.away:
                # Its own healing keeps nobody from going away again (A15).
                slots.give_back(going.away[key], going.at)
            going.away[key] = slots.hold(going.at, until + healing, going.at + planned + healing)

    def _keys(self, place: AwayPlace) -> list[tuple[str, str]]:
        if place.server in self._occupied:
            return []
        return [(kind, name) for kind, name, _ in limits_of(place, self._limits.away)]

    def _slots(self, key: tuple[str, str]) -> Slots:
        if key not in self._away:
            taken = sum(key[1] in place.names(key[0]) for place in self._occupied.values())
            allowed = self._limits.away.allowed(*key) - taken
            self._away[key] = Slots(self._durations.samples, max(1, allowed))
        return self._away[key]

    def _free(self, going: _Going, key: tuple[str, str]) -> Samples:
        free = self._slots(key).first()
        return np.minimum(free, going.at) if key in going.away else free

    def _healing(self, key: tuple[str, str]) -> float:
        return self._limits.group(key[1]).heal_seconds if key[0] == "group" else 0.0


class _Releases:
    """When each wave may begin, and each window (T7, T9)."""

    def __init__(self, timetable: Timetable, limits: NightLimits, samples: int) -> None:
        waves = {seat.wave for seat in timetable.seats}
        self._order = [wave for wave in limits.waves if wave.name in waves]
        self._ends = {wave.name: np.zeros(samples) for wave in self._order}
        self._zero = np.zeros(samples)
        self._wishes = limits.wish_of

    def of(self, seat: Seat) -> Samples:
        wish = self._wishes.get(seat.server)
        at = self._zero if wish is None else np.full(len(self._zero), wish.at)
        for wave in self._order:
            if wave.name == seat.wave:
                at = np.maximum(at, wave.not_before)
                break
            at = np.maximum(at, self._ends[wave.name] + wave.wait_seconds)
        return np.maximum(at, seat.window.start) if seat.window else at

    def ended(self, seat: Seat, at: Samples) -> None:
        if seat.wave is not None:
            np.maximum(self._ends[seat.wave], at, out=self._ends[seat.wave])


def _turns(seat: Seat) -> dict[int, int]:
    """From which step to which it counts among those at once without a planned rest, steps ahead left out (T6)."""
    starts, steps, ahead = seat.placed.starts, seat.placed.itinerary.steps, seat.placed.itinerary.ahead
    last = len(steps) - 1
    rests = [
        n
        for n in range(ahead, last)
        if starts[n + 1] > starts[n] + steps[n].seconds and not any(a <= n < b for a, b in seat.placed.itinerary.holds)
    ]
    return dict(zip([ahead, *(n + 1 for n in rests)], [*rests, last], strict=True))


def _tell(key: tuple[str, str]) -> str:
    return f"{key[0]} {key[1]}"
