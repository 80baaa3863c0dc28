"""Standings as the interface draws them: a glyph row per server, one cell per kind of component."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Sequence
from typing import Any

from ordnung.core.assessment import Standing
from ordnung.core.baseline import Position
from ordnung.core.drift import Drift, Verdict
from ordnung.core.route import Route

LETTERS = {
    "bios": "F", "controller": "M", "raid": "R", "nic": "N", "drive": "D", "power": "P",
    "backplane": "B", "logic": "L", "store": "S", "other": "O",
}  # fmt: skip
FIXED = ("bios", "controller", "raid", "nic", "drive", "power")
_WEIGHT = (
    Verdict.LEVEL, Verdict.HELD, Verdict.AHEAD, Verdict.UNLISTED, Verdict.UNREAD, Verdict.UNORDERED,
    Verdict.PENDING, Verdict.BEHIND, Verdict.STRANDED, Verdict.EXPOSED,
)  # fmt: skip
"""From what matters least in a folded cell to what matters most."""
_RANK = {verdict: place for place, verdict in enumerate(_WEIGHT)}
Pair = tuple[Position, Drift]


def worst(verdicts: Sequence[Verdict]) -> Verdict:
    """The verdict that stands for several components of one kind."""
    return max(verdicts, key=_RANK.__getitem__, default=Verdict.UNREAD)


def glyph_row(standing: Standing) -> list[dict[str, Any]]:
    """The cells of a server: the fixed six, then others that are fitted."""
    by_kind: dict[str, list[Pair]] = {}
    for pair in zip(standing.positions, standing.drift, strict=True):
        by_kind.setdefault(pair[0].component.kind, []).append(pair)
    kinds = [*FIXED, *sorted(by_kind.keys() - set(FIXED))]
    return [cell(standing, kind, by_kind.get(kind, [])) for kind in kinds]


def cell(standing: Standing, kind: str, pairs: Sequence[Pair]) -> dict[str, Any]:
    """One cell: the worst verdict of a kind's components, how deep, and the versions found."""
    verdict = worst([drift.verdict for _, drift in pairs]).word if pairs else "unread"
    versions = Counter(p.component.version or "unread" for p, _ in pairs)
    spoken = ", ".join(f"{v} ×{n}" if len(pairs) > 1 and len(versions) > 1 else v for v, n in versions.most_common())
    leading = max(pairs, key=lambda pair: _RANK[pair[1].verdict], default=None)
    slots = {p.component.slot for p, _ in pairs}
    stops = sorted(
        {w.to for w in standing.route.writes if w.slot in slots and w.to != (leading[1].target if leading else "")}
    )
    return {
        "kind": kind,
        "letter": LETTERS[kind],
        "verdict": verdict,
        "behind": max((d.behind or 0 for _, d in pairs), default=0),
        "versions": spoken,
        "target": leading[1].target if leading else None,
        "product": leading[1].product if leading else None,
        "name": leading[0].product.name
        if leading and leading[0].product
        else (leading[0].component.name if leading else ""),
        "count": len(pairs),
        "lagging": sum(1 for _, d in pairs if d.verdict in (Verdict.BEHIND, Verdict.EXPOSED)),
        "waiting": leading[0].component.waiting if leading and leading[0].component.has_waiting else None,
        "via": stops,
        "reason": leading[1].reason if leading else "",
        "importance": leading[1].missed_importance if leading else None,
    }


def resets_text(route: Route) -> str:
    """What a server pays, in words."""
    parts = [
        (route.outages - route.power_cycles, "reboot"),
        (route.power_cycles, "power cycle"),
        (route.restarts, "controller restart"),
    ]
    return ", ".join(f"{n} {word}{'s' if n > 1 else ''}" for n, word in parts if n)


def signature_text(standing: Standing) -> str:
    """A short name for a state that equal servers share."""
    return hashlib.sha256(repr(standing.signature).encode()).hexdigest()[:12]


def component_row(standing: Standing, place: int) -> dict[str, Any]:
    """One component with everything the panel tells of it."""
    position, drift = standing.positions[place], standing.drift[place]
    component = position.component
    return {
        "slot": component.slot,
        "kind": component.kind,
        "letter": LETTERS[component.kind],
        "name": position.product.name if position.product else component.name,
        "product": drift.product,
        "version": component.version,
        "waiting": component.waiting if component.has_waiting else None,
        "banks": list(component.banks),
        "origin": component.origin,
        "serial": component.serial,
        "health": component.health,
        "state": component.state,
        "reported": component.reported,
        "updateable": component.updateable,
        "score": drift.score,
        **drift_row(drift),
    }


def drift_row(drift: Drift) -> dict[str, Any]:
    """The drift of one component as the API gives it."""
    return {
        "target": drift.target,
        "verdict": drift.verdict.word,
        "behind": drift.behind,
        "importance": drift.missed_importance,
        "since": drift.since.isoformat() if drift.since else None,
        "fixes": list(drift.fixes),
        "reason": drift.reason,
    }


def round_rows(route: Route) -> list[dict[str, Any]]:
    """The rounds of a route as the API gives them."""
    return [
        {
            "writes": [{"slot": w.slot, "product": w.product, "source": w.source, "to": w.to} for w in step.writes],
            "reset": step.reset,
        }
        for step in route.rounds
    ]
