"""How long steps take: a distribution around what is planned, or what was kept of past runs (F1, A39)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ordnung.core.night.itinerary import RESETS, PlannedStep

Samples = npt.NDArray[np.float64]
LEAST_KEPT = 8
"""So many kept durations are needed before they count."""
SPREAD = {"staging": 0.20, "writing": 0.20, "moving off": 0.25, "taking back": 0.25, **dict.fromkeys(RESETS, 0.30)}
SHARED = math.sqrt(0.5)
"""Half of the variance of a server's resets is the server's: a slow one is slow each time (A39)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class History:
    """Kept durations in seconds: of writes by (model, product, version), of resets by (model, kind)."""

    writes: Mapping[tuple[str, str, str], Sequence[float]] = field(default_factory=dict)
    resets: Mapping[tuple[str, str], Sequence[float]] = field(default_factory=dict)

    def of(self, model: str, step: PlannedStep) -> Sequence[float]:
        """What is kept for a step of a server of ``model``; nothing if it is too little."""
        if step.kind == "writing":
            found = self.writes.get((model, step.product or "", step.to or ""), ())
        else:
            found = self.resets.get((model, step.kind), ())
        return found if len(found) >= LEAST_KEPT else ()


class Durations:
    """Draws durations; seeded, so that the same questions in the same order have the same answers."""

    def __init__(self, samples: int, seed: int, history: History | None = None) -> None:
        self.samples = samples
        self._dice = np.random.default_rng(seed)
        self._history = history or History()
        self._of_server: dict[str, Samples] = {}

    def draw(self, server: str, model: str, step: PlannedStep, elapsed: float = 0.0) -> Samples:
        """Durations of a step in seconds, each at least as long as it has gone on already (F5)."""
        spread = SPREAD.get(step.kind, 0.0)
        kept = self._history.of(model, step)
        if not spread or (not kept and step.seconds <= 0):
            return np.full(self.samples, max(step.seconds, elapsed))
        z = self._normal(server, step.kind)
        if elapsed > 0:
            z = _at_least(z, _z_of(elapsed, kept, step.seconds, spread))
        found = _from_kept(z, kept) if kept else step.seconds * np.exp(spread * z)
        return np.maximum(found, elapsed)

    def _normal(self, server: str, kind: str) -> Samples:
        own = self._dice.standard_normal(self.samples)
        if kind not in RESETS:
            return own
        if server not in self._of_server:
            self._of_server[server] = self._dice.standard_normal(self.samples)
        return SHARED * (own + self._of_server[server])


def _at_least(z: Samples, least: float) -> Samples:
    """Normal numbers above ``least``, in the same order as those given: by their place in the distribution."""
    from scipy.special import ndtr, ndtri  # a tenth of what any process of the site takes to start, for few of them

    below = float(ndtr(least))
    return np.asarray(ndtri(np.minimum(below + (1 - below) * ndtr(z), 1 - 1e-12)))


def _z_of(seconds: float, kept: Sequence[float], planned: float, spread: float) -> float:
    from scipy.special import ndtri

    if not kept:
        return math.log(max(seconds, 1e-6) / planned) / spread
    logs = np.sort(np.log(np.maximum(kept, 1e-3)))
    share = float(np.interp(math.log(seconds), logs, _places(len(logs))))
    return float(ndtri(min(max(share, 1e-9), 1 - 1e-9)))


def _places(number: int) -> Samples:
    return (np.arange(number) + 0.5) / number


def _from_kept(z: Samples, kept: Sequence[float]) -> Samples:
    """Quantiles of what was kept, on a log scale, the steps between them and the ends smoothed.

    Beyond the first and last it goes on as a log-normal of the same spread would: eight runs have not seen the worst.
    """
    from scipy.special import ndtri

    logs = np.sort(np.log(np.maximum(kept, 1e-3)))
    places = ndtri(_places(len(logs)))
    spread = float(np.std(logs))
    inside = np.interp(z, places, logs)
    return np.asarray(np.exp(inside + spread * (np.minimum(z - places[0], 0.0) + np.maximum(z - places[-1], 0.0))))
