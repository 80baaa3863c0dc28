"""One server's steps in order, with what they take (T1 to T4, T8)."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

from ordnung.core.away import AwayPlace
from ordnung.core.baseline import Position
from ordnung.core.by_disc import PRODUCT
from ordnung.core.catalog import Payload, Release
from ordnung.core.night.limits import NightLimits
from ordnung.core.route import Round, Route
from ordnung.core.sheet import PlannedRound

if TYPE_CHECKING:  # it brings NumPy along, which a field kit has no use for
    from ordnung.core.assessment import Standing

WRITE_S, RESET_S, RESTART_S, CHECK_S, STAGE_S, LEAST_STAGE_S = 120.0, 300.0, 120.0, 20.0, 15.0, 5.0
"""Taken where nothing is known (T1, T2)."""
OUTAGES = ("server reboot", "power cycle")
RESETS = ("controller restart", *OUTAGES)


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedStep:
    """One step: its kind, what it writes, its seconds; ``assumed`` when they rest on nothing known (A8)."""

    kind: str
    seconds: float
    slot: str | None = None
    product: str | None = None
    to: str | None = None
    assumed: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Duty:
    """A server with something to do: its place among the limits and its route with what is known of each release."""

    place: AwayPlace
    route: Route
    model: str = ""
    releases: dict[tuple[str, str], Release | None] = field(default_factory=dict)
    """By slot and version, of all that is written or made active."""

    @property
    def server(self) -> str:
        """Its name."""
        return self.place.server


def duty_of(standing: Standing, place: AwayPlace, route: Route | None = None) -> Duty:
    """What a server has to do: by its route to the baseline, or by another one (a way back)."""
    taken = route if route is not None else standing.route
    positions = {p.component.slot: p for p in standing.positions}
    asked = {(w.slot, w.to) for w in taken.writes} | {pair for step in taken.rounds for pair in step.activates}
    return Duty(
        place=place,
        route=taken,
        model=standing.server.model,
        releases={(s, v): _find(positions.get(s), v) for s, v in asked},
    )


def _find(position: Position | None, version: str) -> Release | None:
    return position.product.find(version) if position is not None and position.product is not None else None


@dataclass(frozen=True, slots=True)
class Stretch:
    """Steps without a gap between them (T3): which, how long, how long its staging; where in it the server is away.

    ``opens`` is where the server goes away for good, until its last step ended; None if not in this stretch.
    """

    first: int
    last: int
    seconds: float
    staging: float
    aways: tuple[tuple[float, float], ...] = ()
    opens: float | None = None


@dataclass(frozen=True, eq=False)
class Itinerary:
    """A server's steps; the first ``ahead`` of them may be done before the window, with gaps (T8, A26)."""

    place: AwayPlace
    model: str
    steps: tuple[PlannedStep, ...]
    ahead: int
    aways: tuple[tuple[int, int], ...]
    """First and last step of each stretch of time in which it is away."""
    holds: tuple[tuple[int, int], ...]
    """The same for its places among those away."""
    stretches: tuple[Stretch, ...]

    @property
    def server(self) -> str:
        """Its name."""
        return self.place.server

    @cached_property
    def seconds(self) -> float:
        """Without any gap, from its first step to its last."""
        return sum(step.seconds for step in self.steps)

    @cached_property
    def main_seconds(self) -> float:
        """What can't be ahead."""
        return sum(step.seconds for step in self.steps[self.ahead :])

    @cached_property
    def stays(self) -> tuple[float, ...]:
        """How long it holds its places among those away at least, each time."""
        return tuple(sum(s.seconds for s in self.steps[first : last + 1]) for first, last in self.holds)

    @cached_property
    def away_seconds(self) -> float:
        """How long it holds its places among those away at least."""
        return sum(self.stays)


def plan_itinerary(duty: Duty, limits: NightLimits) -> Itinerary:
    """The steps of one server, in order (T1), with moving off and taking back as its groups want it (T4, A6, A7)."""
    groups = [limits.group(name) for name in duty.place.groups]
    off = max((g.off_seconds for g in groups), default=0.0)
    back = max((g.back_seconds for g in groups), default=0.0)
    by_disc = any(write.product == PRODUCT for write in duty.route.writes)  # away from the disc in to the disc out
    between = bool(groups) and all(g.between for g in groups) and not by_disc
    outages = [n for n, step in enumerate(duty.route.rounds) if step.reset in OUTAGES]
    steps: list[PlannedStep] = []
    aways: list[tuple[int, int]] = []
    gone: int | None = None
    for number, step in enumerate(duty.route.rounds):
        steps += _writes(step, duty, limits)
        leaves = number in outages and (between or number == outages[0])
        if leaves:
            gone = len(steps)
            steps += _moving("moving off", off)
        if step.reset is not None:
            steps.append(_reset(step, duty))
        steps.append(PlannedStep(kind="checking", seconds=CHECK_S))
        returns = gone is not None and (between or number == len(duty.route.rounds) - 1)
        if gone is not None and returns:
            steps += _moving("taking back", back)
            aways.append((gone, len(steps) - 1))
            gone = None
    ahead = _ahead(duty) if limits.ahead == "writing" and not by_disc else 0
    holds = [(ahead, len(steps) - 1)] if aways and limits.holds_early else aways
    stretches = _stretches(steps, ahead, holds, between and not limits.holds_early)
    return Itinerary(duty.place, duty.model, tuple(steps), ahead, tuple(aways), tuple(holds), stretches)


def _moving(kind: str, seconds: float) -> list[PlannedStep]:
    return [PlannedStep(kind=kind, seconds=exact(seconds))] if seconds > 0 else []


def _writes(step: Round, duty: Duty, limits: NightLimits) -> Iterable[PlannedStep]:
    for write in step.writes:
        release = duty.releases.get((write.slot, write.to))
        seconds, is_known = staging_seconds(release.size if release else None, limits)
        named = {"slot": write.slot, "product": write.product, "to": write.to}
        yield PlannedStep(kind="staging", seconds=seconds, assumed=not is_known, **named)
        took = WRITE_S if write.seconds is None else exact(write.seconds)
        yield PlannedStep(kind="writing", seconds=took, assumed=write.seconds is None, **named)


def staging_seconds(size: int | None, limits: NightLimits) -> tuple[float, bool]:
    """What a transfer takes, and whether that is known (T2, A11): never a rounding of floats."""
    if size is None or limits.bytes_per_second is None:
        return STAGE_S, False
    return float(max(LEAST_STAGE_S, -(-size * limits.transfers // limits.bytes_per_second))), True


def _reset(step: Round, duty: Duty) -> PlannedStep:
    """A reset takes the longest of all that it makes active, one that is not known counting as usual (A3)."""
    usual = RESTART_S if step.reset == "controller restart" else RESET_S
    found = [duty.releases.get(pair) for pair in step.activates]
    told = [release.reset_seconds if release else None for release in found]
    seconds = max((usual if s is None else exact(s) for s in told), default=usual)
    return PlannedStep(kind=step.reset or "", seconds=seconds, assumed=not told or None in told)


def _ahead(duty: Duty) -> int:
    """How many leading steps may be ahead: the writes of the first round, if they all wait for a reset (A26)."""
    writes = [write for step in duty.route.rounds[:1] for write in step.writes]
    found = [duty.releases.get((w.slot, w.to)) for w in writes]
    if any(release is not None and (release.activation == "at once" or release.alone) for release in found):
        return 0
    return 2 * len(writes)


def _stretches(
    steps: Sequence[PlannedStep], ahead: int, holds: Sequence[tuple[int, int]], between: bool
) -> tuple[Stretch, ...]:
    if not steps:
        return ()
    heads = [n for n in range(ahead, len(steps)) if n == ahead or steps[n].kind == "staging"]
    found = []
    for first, last in zip(heads, [*(n - 1 for n in heads[1:]), len(steps) - 1], strict=True):
        at = [0.0]
        for step in steps[first : last + 1]:
            at.append(at[-1] + step.seconds)
        inside = [(a, b) for a, b in holds if first <= a <= last]
        found.append(
            Stretch(
                first,
                last,
                at[-1],
                steps[first].seconds if steps[first].kind == "staging" else 0.0,
                tuple((at[a - first], at[b - first + 1]) for a, b in inside) if between else (),
                at[inside[0][0] - first] if inside and not between else None,
            )
        )
    return tuple(found)


def exact(seconds: float) -> float:
    """Seconds as a multiple of 2**-20, rounded up: sums of such are exact, so that no limit is missed by rounding."""
    return math.ceil(float(seconds) * 2**20) / 2**20


def round_minutes(seconds: float) -> int:
    """Whole minutes, rounded up: nobody plans for less."""
    return math.ceil(seconds / 60 - 1e-9)


def duty_of_rounds(place: AwayPlace, model: str, rounds: Sequence[PlannedRound]) -> Duty:
    """What a server has to do by the rounds of a run, with what they tell of payloads and resets."""
    releases: dict[tuple[str, str], Release | None] = {}
    for step in rounds:
        for pair in step.activates:
            releases[pair] = Release(version=pair[1], reset_seconds=step.reset_seconds)
    for step in rounds:
        for planned in step.writes:
            pair = (planned.write.slot, planned.write.to)
            known = releases.get(pair) or Release(version=pair[1])
            payload = planned.payload
            carried = Payload(path=payload.path, size=payload.size, sha256=payload.sha256) if payload else None
            releases[pair] = dataclasses.replace(known, payload=carried)
    plain = tuple(
        Round(
            writes=tuple(planned.write for planned in step.writes),
            reset=step.reset,
            reset_seconds=step.reset_seconds,
            activates=step.activates,
        )
        for step in rounds
    )
    return Duty(place=place, route=Route(rounds=plain), model=model, releases=releases)
