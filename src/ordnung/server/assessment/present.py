"""Standings as the interface draws them: a glyph row per server, one cell per kind of component."""

from __future__ import annotations

import datetime
import hashlib
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.assessment import Standing
from ordnung.core.baseline import Position
from ordnung.core.drift import Drift, Verdict
from ordnung.core.route import Route
from ordnung.server.shapes import row_from

LETTERS = {
    "bios": "F", "controller": "M", "raid": "R", "nic": "N", "drive": "D", "power": "P",
    "backplane": "B", "logic": "L", "store": "S", "other": "O",
}  # fmt: skip
KIND_NAMES = {
    "bios": "BIOS", "controller": "Management controller", "raid": "RAID", "nic": "Network", "drive": "Drives",
    "power": "Power", "backplane": "Backplane", "logic": "Logic", "store": "Store", "other": "Other",
}  # fmt: skip
FIXED = ("bios", "controller", "raid", "nic", "drive", "power")
SAYS = {
    Verdict.LEVEL: "on the baseline",
    Verdict.HELD: "held by a rule",
    Verdict.AHEAD: "ahead of the baseline",
    Verdict.UNLISTED: "in no catalog",
    Verdict.UNREAD: "not read",
    Verdict.UNORDERED: "can't be ordered",
    Verdict.PENDING: "written, waits for a reset",
    Verdict.BEHIND: "behind",
    Verdict.STRANDED: "no way there",
    Verdict.EXPOSED: "behind, security fix missing",
}
"""The verdicts in the words of the interface."""
WEIGHT = (
    Verdict.LEVEL, Verdict.HELD, Verdict.AHEAD, Verdict.UNLISTED, Verdict.UNREAD, Verdict.UNORDERED,
    Verdict.PENDING, Verdict.BEHIND, Verdict.STRANDED, Verdict.EXPOSED,
)  # fmt: skip
"""From what matters least in a folded cell to what matters most."""
_RANK = {verdict: place for place, verdict in enumerate(WEIGHT)}
Pair = tuple[Position, Drift]


@dataclass(frozen=True, slots=True, kw_only=True)
class CellRow:
    kind: str
    letter: str
    verdict: str
    behind: int
    versions: str
    target: str | None
    product: str | None
    name: str
    count: int
    lagging: int
    waiting: str | None
    via: list[str]
    reason: str
    importance: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class ComponentRow:
    slot: str
    kind: str
    letter: str
    name: str
    product: str | None
    version: str | None
    waiting: str | None
    banks: list[str]
    target: str | None
    verdict: str
    behind: int | None
    importance: str | None
    since: str | None
    fixes: list[str]
    reason: str
    origin: str
    serial: str | None
    health: str | None
    state: str | None
    start: str | None
    """Of a service partition: whether its server can be started from it, or will be with its next start."""
    reported: str | None
    updateable: bool | None
    score: float | None
    seen_since: datetime.datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedWriteRow:
    slot: str
    product: str
    source: str
    to: str


@dataclass(frozen=True, slots=True, kw_only=True)
class StrandedRow:
    slot: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RoundRow:
    writes: list[PlannedWriteRow]
    reset: str | None


def worst(verdicts: Sequence[Verdict]) -> Verdict:
    """The verdict that stands for several components of one kind."""
    return max(verdicts, key=_RANK.__getitem__, default=Verdict.UNREAD)


@dataclass(frozen=True, slots=True)
class _Shown:
    """How a state is drawn; ``drift`` is kept so that its id means one thing only."""

    drift: tuple[Drift, ...]
    cells: list[CellRow]
    signature: str


_shown: dict[tuple[int, tuple[str, ...]], _Shown] = {}
MOST_SHOWN = 4096


def _show(standing: Standing) -> _Shown:
    """Equal servers share their drift, and then their drawing, as far as their components have the same names."""
    if not standing.drift:  # nothing was read: the empty tuple is one and the same for all of them
        return _Shown((), _glyph_row(standing), _short(standing))
    key = (id(standing.drift), tuple(component.name for component in standing.server.components))
    known = _shown.get(key)
    if known is None or known.drift is not standing.drift:
        if len(_shown) >= MOST_SHOWN:
            _shown.clear()
        known = _shown[key] = _Shown(standing.drift, _glyph_row(standing), _short(standing))
    return known


def _short(standing: Standing) -> str:
    return hashlib.sha256(repr(standing.signature).encode()).hexdigest()[:12]


def glyph_row(standing: Standing) -> list[CellRow]:
    """The cells of a server: the fixed six, then others that are fitted."""
    return _show(standing).cells


def _glyph_row(standing: Standing) -> list[CellRow]:
    by_kind: dict[str, list[Pair]] = {}
    for pair in zip(standing.positions, standing.drift, strict=True):
        by_kind.setdefault(pair[0].component.kind, []).append(pair)
    kinds = [*FIXED, *sorted(by_kind.keys() - set(FIXED))]
    return [cell(standing, kind, by_kind.get(kind, [])) for kind in kinds]


def cell(standing: Standing, kind: str, pairs: Sequence[Pair]) -> CellRow:
    """One cell: the worst verdict of a kind's components, how deep, and the versions found."""
    verdict = worst([drift.verdict for _, drift in pairs]).word if pairs else "unread"
    versions = Counter(p.component.version or "unread" for p, _ in pairs)
    spoken = ", ".join(f"{v} ×{n}" if len(pairs) > 1 and len(versions) > 1 else v for v, n in versions.most_common())
    leading = max(pairs, key=lambda pair: _RANK[pair[1].verdict], default=None)
    slots = {p.component.slot for p, _ in pairs}
    stops = sorted(
        {w.to for w in standing.route.writes if w.slot in slots and w.to != (leading[1].target if leading else "")}
    )
    position, drift = leading or (None, None)
    product = position.product if position else None
    return CellRow(
        kind=kind,
        letter=LETTERS[kind],
        verdict=verdict,
        behind=max((d.behind or 0 for _, d in pairs), default=0),
        versions=spoken,
        target=drift.target if drift else None,
        product=drift.product if drift else None,
        name=product.name if product else position.component.name if position else "",
        count=len(pairs),
        lagging=sum(1 for _, d in pairs if d.verdict in (Verdict.BEHIND, Verdict.EXPOSED)),
        waiting=position.component.waiting if position and position.component.has_waiting else None,
        via=stops,
        reason=drift.reason if drift else "",
        importance=drift.missed_importance if drift else None,
    )


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
    return _show(standing).signature


def component_row(standing: Standing, place: int, seen_since: datetime.datetime | None) -> ComponentRow:
    """One component with everything the panel tells of it."""
    position, drift = standing.positions[place], standing.drift[place]
    component = position.component
    return row_from(
        ComponentRow,
        component,
        letter=LETTERS[component.kind],
        name=position.product.name if position.product else component.name,
        product=drift.product,
        waiting=component.waiting if component.has_waiting else None,
        banks=list(component.banks),
        target=drift.target,
        verdict=drift.verdict.word,
        behind=drift.behind,
        importance=drift.missed_importance,
        since=drift.since.isoformat() if drift.since else None,
        fixes=list(drift.fixes),
        reason=drift.reason,
        score=drift.score,
        seen_since=seen_since,
    )


def round_rows(route: Route) -> list[RoundRow]:
    """The rounds of a route as the API gives them."""
    return [
        RoundRow(writes=[row_from(PlannedWriteRow, write) for write in step.writes], reset=step.reset)
        for step in route.rounds
    ]
