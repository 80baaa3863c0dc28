"""Drift as the command line and the application give it in JSON (D8, D12, D13): one place, so that they agree."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import Any

from ordnung.core.assessment import Standing


def drift_rows(standing: Standing) -> list[dict[str, Any]]:
    """The drift of one server, a row per component."""
    return [
        {
            "server": standing.server.name,
            "slot": d.slot,
            "product": d.product,
            "installed": d.installed,
            "target": d.target,
            "verdict": d.verdict.word,
            "behind": d.behind,
            "missed_importance": d.missed_importance,
            "rule": d.rule,
            "since": d.since.isoformat() if d.since else None,
            "fixes": list(d.fixes),
            "fixes_beyond": list(d.fixes_beyond),
            "route": d.route,
            "reason": d.reason,
        }
        for d in standing.drift
    ]


def total_rows(rows: Iterable[dict[str, Any]]) -> dict[str, int]:
    """Verdict -> count, in order of the words."""
    return dict(sorted(Counter(row["verdict"] for row in rows).items()))
