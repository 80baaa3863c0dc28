"""Drift as arrays against one pass over the same memory, and against a plain loop."""

from __future__ import annotations

import time
from typing import Any

import numpy as np

from ordnung.core.drift import Columns, judge

COMPONENTS, ROUNDS = 300_000, 7


def bench_drift() -> tuple[float, float]:
    """(our judgement / one pass over the same columns, a plain loop / our judgement)."""
    columns = _columns()
    ours = _best(lambda: judge(columns))
    one_pass = _best(lambda: _pass(columns))
    rows = COMPONENTS // 30
    part = Columns(
        **{name: getattr(columns, name)[:rows] for name in columns.__slots__ if name != "security"},
        security=columns.security,
    )
    loop = _best(lambda: _loop(part)) * (COMPONENTS / rows)
    return ours / one_pass, loop / ours


def _columns() -> Columns:
    chance = np.random.default_rng(7)
    products, releases = 40, 8
    security = np.cumsum(np.concatenate([[0], chance.integers(0, 2, products * (releases + 1))])).astype(np.int32)
    number = chance.integers(0, products, COMPONENTS)

    def flags(odds: float) -> np.ndarray[Any, np.dtype[np.bool_]]:
        return chance.random(COMPONENTS) < odds

    return Columns(
        unread=flags(0.01), listed=flags(0.98), held=flags(0.1), pending=flags(0.02), ordered=flags(0.99),
        stranded=flags(0.01), empty=flags(0.001),
        installed=chance.integers(0, 2 * releases + 1, COMPONENTS).astype(np.int32),
        target=np.full(COMPONENTS, 2 * releases - 1, dtype=np.int32),
        offset=(number * (releases + 1)).astype(np.int32),
        security=security,
    )  # fmt: skip


def _pass(columns: Columns) -> None:
    """Read every column once and write one verdict and one distance: the memory traffic that can't be avoided."""
    low = (columns.installed + 1) >> 1
    np.subtract((columns.target + 1) >> 1, low)
    out = np.zeros(columns.installed.shape, dtype=np.int8)
    states = (columns.unread, columns.listed, columns.held, columns.pending, columns.ordered)
    for flag in (*states, columns.stranded, columns.empty):
        out += flag
    columns.security[columns.offset + low]


def _loop(columns: Columns) -> list[int]:
    """The same judgement, a component at a time."""
    verdicts = []
    for i in range(len(columns.installed)):
        have, want = int(columns.installed[i]), int(columns.target[i])
        low, high, start = (have + 1) >> 1, (want + 1) >> 1, int(columns.offset[i])
        missed = columns.security[start + high] - columns.security[start + low]
        checks = (columns.unread[i], not columns.listed[i], columns.held[i], columns.pending[i], not columns.ordered[i],
                  have == want, have > want, columns.stranded[i], missed > 0)  # fmt: skip
        verdicts.append(next((n for n, holds in enumerate(checks) if holds), 9))
    return verdicts


def _best(work: Any) -> float:
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return min(times)
