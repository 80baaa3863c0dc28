"""All releases of a product in order: who sits where, the ways to the baseline, the stops, the barrier."""

from __future__ import annotations

import datetime
from collections import Counter
from dataclasses import dataclass, field

from ordnung.core.catalog import Product, Release
from ordnung.core.folds import Fold
from ordnung.core.releases import Conflict, find_conflicts
from ordnung.server.assessment.current import Assessment
from ordnung.server.baselines.rows import NAMES_SHOWN
from ordnung.server.shapes import row_from


@dataclass(frozen=True, slots=True, kw_only=True)
class FixRow:
    id: str
    score: float | None
    title: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ListedInRow:
    name: str
    signed_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ReleaseRow:
    version: str
    released: datetime.date | None
    importance: str | None
    notes: str
    fixes: list[FixRow]
    size: int | None
    activation: str | None
    direct_from: str | None
    needs: list[str]
    floor_after: str | None
    alone: bool
    write_seconds: float | None
    is_target: bool
    is_stop: bool
    is_beyond: bool
    issues: list[ListedInRow]
    conflict: str
    servers: list[str]
    server_count: int
    components: int
    waiting: int


@dataclass(frozen=True, slots=True, kw_only=True)
class WayRow:
    """One leg of a route over this product: from, to, by which reset, and how many components take it."""

    source: str
    to: str
    reset: str
    components: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ReleaseLineRow:
    product: str
    name: str
    kind: str
    held: bool
    releases: list[ReleaseRow]
    ways: list[WayRow]
    elsewhere: list[str]
    floor: str | None


@dataclass
class _Seen:
    """What the fleet shows of one product."""

    on: Counter[str] = field(default_factory=Counter)
    names: dict[str, list[str]] = field(default_factory=dict)
    waiting: Counter[str] = field(default_factory=Counter)
    targets: Counter[str] = field(default_factory=Counter)
    stops: set[str] = field(default_factory=set)
    ways: Counter[tuple[str, str, str]] = field(default_factory=Counter)
    held: int = 0


def release_line(product: Product, assessment: Assessment) -> ReleaseLineRow:
    """The release line of one product over the whole house; releases of all issues at hand are joined."""
    seen = _Seen()
    for fold in assessment.folds:
        _look(fold, product, seen)
    goal = [r for v in seen.targets if (r := product.find(v)) is not None]
    places = {release.version: n for n, release in enumerate(product.ordered)}
    last = max((places[r.version] for r in goal if r.version in places), default=-1)
    issues = _issues_of(product, assessment)
    conflicts = {c.version: c for c in find_conflicts(assessment.catalogs.issues) if c.product == product.id}
    return ReleaseLineRow(
        product=product.id,
        name=product.name,
        kind=product.kind,
        held=seen.held > 0,
        releases=[
            _release(
                product, release, seen, beyond=not seen.held and n > last, issues=issues.get(release.version, []),
                conflict=_tell_conflict(conflicts.get(release.version)),
            )
            for n, release in enumerate(product.ordered)
        ],
        ways=[WayRow(source=s, to=t, reset=r, components=n) for (s, t, r), n in sorted(seen.ways.items())],
        elsewhere=sorted(f"{v} ({n})" for v, n in seen.on.items() if product.find(v) is None),
        floor=next((r.floor_after for r in goal if r.floor_after), None),
    )  # fmt: skip


def _look(fold: Fold, product: Product, seen: _Seen) -> None:
    count, counted = len(fold.names), set()
    for position in fold.standing.positions:
        if position.product is None or position.product.id != product.id:
            continue
        component, target = position.component, position.target
        release = product.find(component.version or "")
        version = release.version if release else component.version or "unread"
        seen.on[version] += count
        if version not in counted:
            counted.add(version)
            seen.names.setdefault(version, []).extend(fold.names)
        if component.has_waiting and component.waiting:
            seen.waiting[component.waiting] += count
        if target is not None and target.held:
            seen.held += count
        if target is not None and target.version:
            found = product.find(target.version)
            seen.targets[found.version if found else target.version] += count
    goals = {w.slot: w.to for w in fold.standing.route.writes if w.product == product.id}
    for step in fold.standing.route.rounds:
        for write in step.writes:
            if write.product == product.id:
                seen.ways[write.source, write.to, step.reset or "at once"] += count
                if goals[write.slot] != write.to:
                    seen.stops.add(write.to)


def _issues_of(product: Product, assessment: Assessment) -> dict[str, list[ListedInRow]]:
    """Which issues list each release, and who signed them."""
    found: dict[str, list[ListedInRow]] = {}
    for issue in sorted(assessment.catalogs.issues, key=lambda i: i.issued):
        mine = next((p for p in issue.products if p.id == product.id), None)
        for release in mine.releases if mine else ():
            known = product.find(release.version)
            name = known.version if known else release.version
            found.setdefault(name, []).append(ListedInRow(name=issue.name, signed_by=issue.signed_by))
    return found


def _tell_conflict(conflict: Conflict | None) -> str:
    if conflict is None:
        return ""
    fields = ", ".join(name.replace("_", " ") for name in conflict.fields)
    return f"{conflict.older} and {conflict.newer} describe it differently: {fields}"


def _release(
    product: Product, release: Release, seen: _Seen, *, beyond: bool, issues: list[ListedInRow], conflict: str
) -> ReleaseRow:
    names = sorted(set(seen.names.get(release.version, ())))
    return row_from(
        ReleaseRow,
        release,
        fixes=[row_from(FixRow, fix) for fix in release.fixes],
        size=release.payload.size if release.payload else None,
        needs=[f"{n.product} {n.at_least or 'below ' + str(n.below)}" for n in release.needs],
        is_target=release.version in seen.targets,
        is_stop=release.version in seen.stops,
        is_beyond=beyond,
        issues=issues,
        conflict=conflict,
        servers=names[:NAMES_SHOWN],
        server_count=len(names),
        components=seen.on[release.version],
        waiting=seen.waiting[release.version],
    )
