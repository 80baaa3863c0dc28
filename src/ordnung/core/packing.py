"""What a repository must hold for chosen servers: targets, must-stops, ways back, and nothing else."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ordnung.core.baseline import Position
from ordnung.core.catalog import Issue, Product, Release
from ordnung.core.house import Standing
from ordnung.core.versions import is_at_least

REASONS = ("target", "must stop", "way back")


@dataclass(frozen=True, slots=True, kw_only=True)
class Packed:
    """One release to be packed: why, for which servers, and by which issue, whose ``base`` it comes from."""

    product: Product
    release: Release
    issue: Issue
    reasons: tuple[str, ...]
    servers: tuple[str, ...]


@dataclass(slots=True)
class _Draft:
    product: Product
    release: Release
    issue: Issue
    reasons: set[str] = field(default_factory=set)
    servers: set[str] = field(default_factory=set)


def plan_packing(standings: Sequence[Standing]) -> tuple[Packed, ...]:
    """The packing list, by product name and version order."""
    drafts: dict[tuple[str, str], _Draft] = {}
    for standing in standings:
        for position in standing.positions:
            stops = [w.to for w in standing.route.writes if w.slot == position.component.slot]
            if stops and position.product is not None:
                _pack(drafts, standing.server.name, position, stops)
    lines = [
        Packed(
            product=draft.product,
            release=draft.release,
            issue=draft.issue,
            reasons=tuple(reason for reason in REASONS if reason in draft.reasons),
            servers=tuple(sorted(draft.servers)),
        )
        for draft in drafts.values()
    ]
    return tuple(sorted(lines, key=lambda p: (p.product.name, p.product.ordered.index(p.release))))


def _pack(drafts: dict[tuple[str, str], _Draft], server: str, position: Position, stops: list[str]) -> None:
    product, issue = position.product, position.match.issue
    assert product is not None and issue is not None
    for place, version in enumerate(stops):
        reason = "target" if place == len(stops) - 1 else "must stop"
        _add(drafts, server, product, issue, version, reason)
    for version in ways_back(product, [position.component.version or "", *stops]):
        _add(drafts, server, product, issue, version, "way back")


def _add(
    drafts: dict[tuple[str, str], _Draft],
    server: str,
    product: Product,
    issue: Issue,
    version: str,
    reason: str,
) -> None:
    release = product.find(version)
    if release is None or product.key(version) is None:
        return
    draft = drafts.setdefault((product.id, release.version), _Draft(product, release, issue))
    draft.reasons.add(reason)
    draft.servers.add(server)


def ways_back(product: Product, passed: Sequence[str]) -> list[str]:
    """Which of the versions a component came from it can go back to (R15).

    Args:
        passed: the versions in the order in which they were active; the last is the present one.

    Returns the nearest to the start that no floor bars, or nothing.
    """
    floors = [r.floor_after for v in passed if (r := product.find(v)) is not None and r.floor_after]
    for version in passed[:-1]:
        if all(is_at_least(product.scheme, version, floor, product.listed) for floor in floors):
            return [version]
    return []
