"""When one server's steps can be, beside all that has its place already: the earliest end there is (T3 to T9).

Nothing is missed: before a server is away a gap costs nothing, so each stretch goes as early as it can; once it is
away, a later beginning never ends earlier, so that the first beginning without a clash is the best (A31 rests on it).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.away import AwayPlace, Refusal, limits_of
from ordnung.core.night.itinerary import Itinerary, Stretch
from ordnung.core.night.limits import NightLimits
from ordnung.core.night.profile import Profile

Held = tuple[Profile, float]
"""A limit on who is away, and for how many seconds a place of it stays taken afterwards (healing)."""


@dataclass(frozen=True, slots=True)
class Placed:
    """One server with its place in the night: when each step starts."""

    itinerary: Itinerary
    starts: tuple[float, ...]

    @property
    def begins(self) -> float:
        """When its first step that is not ahead starts."""
        return self.starts[self.itinerary.ahead]

    @property
    def end(self) -> float:
        """When its last step ends."""
        return self.starts[-1] + self.itinerary.steps[-1].seconds

    @property
    def aways(self) -> tuple[tuple[float, float], ...]:
        """When it is away."""
        return self._spans(self.itinerary.aways)

    @property
    def holds(self) -> tuple[tuple[float, float], ...]:
        """When it holds its places among those away."""
        return self._spans(self.itinerary.holds)

    def _spans(self, steps: tuple[tuple[int, int], ...]) -> tuple[tuple[float, float], ...]:
        return tuple((self.starts[a], self.starts[b] + self.itinerary.steps[b].seconds) for a, b in steps)


class Board:
    """All limits of a night with what is taken of each."""

    def __init__(self, limits: NightLimits, itineraries: Sequence[Itinerary]) -> None:
        self.limits = limits
        self._occupied = {place.server: place for place in limits.occupied}
        pieces, stagings = _shortest(itineraries)
        self.at_once = Profile(limits.at_once, pieces)
        self.link = Profile(limits.transfers, stagings)
        self._away: dict[tuple[str, str], Profile] = {}

    def copy(self) -> Board:
        """The same, to be gone on with apart."""
        other = Board(self.limits, ())
        other.at_once, other.link = self.at_once.copy(), self.link.copy()
        other._away = {key: profile.copy() for key, profile in self._away.items()}
        return other

    def held_by(self, place: AwayPlace) -> tuple[Held, ...]:
        """The limits a server needs a place of while it is away; one that is occupied has its places (A18)."""
        if place.server in self._occupied:
            return ()
        found = []
        for kind, name, allowed in limits_of(place, self.limits.away):
            key = (kind, name)
            if key not in self._away:
                self._away[key] = Profile(allowed - len(self.holders(kind, name)))
            healing = self.limits.group(name).heal_seconds if kind == "group" else 0.0
            found.append((self._away[key], healing))
        return tuple(found)

    def used_up(self, place: AwayPlace) -> Refusal | None:
        """The limit of which a server can never have a place in this night, if there is one (A17)."""
        for profile_key, (profile, _) in zip(self._keys(place), self.held_by(place), strict=True):
            kind, name = profile_key
            if profile.capacity <= 0:
                holders = tuple(self.holders(kind, name))
                allowed = profile.capacity + len(holders)
                return Refusal(limit=kind, name=name, allowed=allowed, holders=holders, kept=True)
        return None

    def _keys(self, place: AwayPlace) -> list[tuple[str, str]]:
        if place.server in self._occupied:
            return []
        return [(kind, name) for kind, name, _ in limits_of(place, self.limits.away)]

    def holders(self, kind: str, name: str) -> list[str]:
        """Who is away for the whole time and counts against a limit (A16)."""
        return sorted(p.server for p in self._occupied.values() if name in p.names(kind))

    def take(self, placed: Placed) -> None:
        """Hold everything that a placed server needs."""
        itinerary, starts = placed.itinerary, placed.starts
        for start, step in zip(starts, itinerary.steps, strict=True):
            if step.kind == "staging":
                self.link.take(start, start + step.seconds)
        for start, step in zip(starts[: itinerary.ahead], itinerary.steps, strict=False):
            self.at_once.take(start, start + step.seconds)
        for start, end in worked_on(placed):
            self.at_once.take(start, end)
        holds = placed.holds
        for profile, healing in self.held_by(itinerary.place) if holds else ():
            for start, end in _joined([(a, b + healing) for a, b in holds]):
                profile.take(start, end)


def _shortest(itineraries: Sequence[Itinerary]) -> tuple[float, float]:
    """The shortest that will be asked of those at once, and of the link."""
    ahead = [step.seconds for i in itineraries for step in i.steps[: i.ahead]]
    pieces = [stretch.seconds for i in itineraries for stretch in i.stretches]
    stagings = [step.seconds for i in itineraries for step in i.steps if step.kind == "staging"]
    return min([*pieces, *ahead], default=0.0), min(stagings, default=0.0)


def worked_on(placed: Placed) -> list[tuple[float, float]]:
    """When it counts among those at once, steps ahead not among them (T6)."""
    starts = placed.starts
    spans = [(starts[s.first], starts[s.first] + s.seconds) for s in placed.itinerary.stretches]
    return _joined(sorted([*spans, *placed.holds]))


def _joined(spans: list[tuple[float, float]]) -> list[tuple[float, float]]:
    joined: list[tuple[float, float]] = []
    for start, end in spans:
        if joined and start <= joined[-1][1]:
            joined[-1] = (joined[-1][0], max(end, joined[-1][1]))
        else:
            joined.append((start, end))
    return joined


def find_place(itinerary: Itinerary, board: Board, since: float, until: float) -> Placed | None:
    """Where a server ends earliest when what is not ahead lies in [since, until]; None if it can't.

    Its limits must allow at least one away (A17 is the caller's to look at).
    """
    starts: list[float] = []
    at = 0.0
    for step in itinerary.steps[: itinerary.ahead]:
        at = _fit_step(board, at, step.seconds, step.kind == "staging")
        starts.append(at)
        at += step.seconds
    at = max(at, since)
    if at + itinerary.main_seconds > until:
        return None
    held = board.held_by(itinerary.place) if itinerary.aways else ()
    for number, stretch in enumerate(itinerary.stretches):
        if stretch.opens is not None:
            begins = _fit_away(itinerary.stretches[number:], stretch.opens, board, held, at, until)
            if begins is None:
                return None
            for later, start in zip(itinerary.stretches[number:], begins, strict=True):
                starts += _spread(itinerary, later, start)
            return Placed(itinerary, tuple(starts))
        at = _fit_stretch(stretch, board, held, at)
        starts += _spread(itinerary, stretch, at)
        at += stretch.seconds
        if at > until:
            return None
    return Placed(itinerary, tuple(starts))


def _spread(itinerary: Itinerary, stretch: Stretch, at: float) -> list[float]:
    starts = []
    for step in itinerary.steps[stretch.first : stretch.last + 1]:
        starts.append(at)
        at += step.seconds
    return starts


def _fit_step(board: Board, at: float, seconds: float, is_staging: bool) -> float:
    while True:
        found = board.link.free_from(at, seconds) if is_staging else at
        found = board.at_once.free_from(found, seconds)
        if found == at:
            return at
        at = found


def _fit_stretch(stretch: Stretch, board: Board, held: tuple[Held, ...], at: float) -> float:
    """The first start of a stretch before or after which the server is in service."""
    while True:
        found = board.link.free_from(at, stretch.staging)
        found = board.at_once.free_from(found, stretch.seconds)
        for begin, end in stretch.aways:
            for profile, healing in held:
                found = max(found, profile.free_from(found + begin, end - begin + healing) - begin)
        if found <= at:
            return at
        at = found


def _fit_away(
    stretches: tuple[Stretch, ...], opens: float, board: Board, held: tuple[Held, ...], at: float, until: float
) -> list[float] | None:
    """The first starts of the stretches from the one in which the server goes away until it is back."""
    least = sum(s.seconds for s in stretches)
    first = stretches[0]
    while at + least <= until:
        found = board.link.free_from(at, first.staging)
        found = board.at_once.free_from(found, least)
        for profile, healing in held:
            found = max(found, profile.free_from(found + opens, least - opens + healing) - opens)
        if found > at:
            at = found
            continue
        begins, end = [at], at + first.seconds
        for stretch in stretches[1:]:
            begins.append(board.link.free_from(end, stretch.staging))
            end = begins[-1] + stretch.seconds
        if end > until:
            return None
        clash = board.at_once.clash(at, end)
        for profile, healing in held:
            if clash is None and (over := profile.clash(at + opens, end + healing)) is not None:
                clash = over - opens
        if clash is None:
            return begins
        at = clash
    return None
