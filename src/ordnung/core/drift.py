"""Drift: how far each component is from the baseline (rules D7 to D14), on integer arrays.

The fleet becomes columns: rank of the installed version among its product's releases, rank of the
target, a few flags. Python touches each distinct (product, version) once; NumPy does the rest.
"""

from __future__ import annotations

import datetime
import enum
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ordnung.core.baseline import Position
from ordnung.core.catalog import Product, Release, worst_importance

Ints = NDArray[np.int32]


class Verdict(enum.IntEnum):
    """Where a component stands; the order is the precedence (first that holds)."""

    UNREAD = 0
    UNLISTED = 1
    HELD = 2
    PENDING = 3
    UNORDERED = 4
    LEVEL = 5
    AHEAD = 6
    STRANDED = 7
    EXPOSED = 8
    BEHIND = 9

    @property
    def word(self) -> str:
        """The word the interface, the API and the command line use."""
        return self.name.lower()


OFF_BASELINE = (Verdict.PENDING, Verdict.STRANDED, Verdict.EXPOSED, Verdict.BEHIND)
"""The verdicts that count as off the baseline."""


@dataclass(frozen=True, slots=True)
class Columns:
    """The fleet as columns of one length, a row per component.

    ``installed`` and ``target`` are ranks on a scale where release i of a product (lowest first)
    has rank 2 i + 1 and whatever lies between two releases the even number between; ``security``
    and ``offset`` let prefix sums over all products' releases be looked up.
    """

    unread: NDArray[np.bool_]
    listed: NDArray[np.bool_]
    held: NDArray[np.bool_]
    pending: NDArray[np.bool_]
    ordered: NDArray[np.bool_]
    stranded: NDArray[np.bool_]
    installed: Ints
    target: Ints
    offset: Ints
    empty: NDArray[np.bool_]
    """Service partitions with nothing on them: below every release, and exposed to nothing."""
    security: Ints
    """Prefix sums of security releases over the concatenated release lists of all products."""


@dataclass(frozen=True, slots=True)
class Judged:
    """A verdict per row, and how many orderable releases lie in (installed, target]."""

    verdict: NDArray[np.int8]
    behind: Ints


_FLAGS = 10
_UNREAD, _LISTED, _HELD, _PENDING, _ORDERED, _STRANDED, _EMPTY, _EQUAL, _ABOVE, _EXPOSED = (
    1 << n for n in range(_FLAGS)
)


def _first_that_holds(flags: int) -> Verdict:
    """The precedence, for one combination of flags."""
    choices = (
        (flags & _UNREAD, Verdict.UNREAD), (not flags & _LISTED, Verdict.UNLISTED), (flags & _HELD, Verdict.HELD),
        (flags & _PENDING, Verdict.PENDING), (not flags & _ORDERED, Verdict.UNORDERED), (flags & _EQUAL, Verdict.LEVEL),
        (flags & _ABOVE, Verdict.AHEAD), (flags & _STRANDED, Verdict.STRANDED), (flags & _EMPTY, Verdict.BEHIND),
        (flags & _EXPOSED, Verdict.EXPOSED),
    )  # fmt: skip
    return next((verdict for holds, verdict in choices if holds), Verdict.BEHIND)


_VERDICTS = np.array([_first_that_holds(flags) for flags in range(1 << _FLAGS)], dtype=np.int8)
"""The verdict of every combination of flags: judging a row is one look into this table."""


def judge(columns: Columns) -> Judged:
    """The verdict of every row, by precedence; rows without order or target count 0 behind."""
    low = (columns.installed + 1) >> 1
    high = (columns.target + 1) >> 1
    missed = columns.security.take(columns.offset + high) > columns.security.take(columns.offset + low)
    flags = columns.unread.astype(np.uint16)
    held = (columns.listed, columns.held, columns.pending, columns.ordered, columns.stranded, columns.empty)
    compared = (columns.installed == columns.target, columns.installed > columns.target, missed)
    for place, column in enumerate((*held, *compared), start=1):
        flags |= np.left_shift(column.view(np.uint8), place, dtype=np.uint16)
    behind = np.maximum(high - low, 0)
    behind *= columns.ordered
    return Judged(_VERDICTS.take(flags), behind)


@dataclass
class Ranks:
    """The distinct releases and versions of the products at hand, as ranks."""

    products: dict[str, int] = field(default_factory=dict)
    offsets: list[int] = field(default_factory=list)
    security: list[int] = field(default_factory=lambda: [0])
    _keep: list[Product] = field(default_factory=list)
    _versions: dict[tuple[int, str], int | None] = field(default_factory=dict)

    def product(self, product: Product) -> int:
        """The number of a product, its releases taken in when first seen."""
        # Two issues may carry one product with unlike release lists: identity decides, not the id.
        name = f"{product.id}#{id(product)}"
        if name not in self.products:
            self.products[name] = len(self.offsets)
            self._keep.append(product)
            self.offsets.append(len(self.security) - 1)
            for release in product.ordered:
                self.security.append(self.security[-1] + (release.importance == "security"))
            self.security.append(self.security[-1])
        return self.products[name]

    def rank(self, number: int, product: Product, version: str) -> int | None:
        """The rank of a version on the product's scale, or None when it can't be ordered."""
        question = (number, version)
        if question not in self._versions:
            self._versions[question] = product.rank(version)
        return self._versions[question]


def build_columns(positions: Sequence[Position], stranded: Sequence[bool]) -> Columns:
    """Columns for ``judge`` from located components; ``stranded`` says which have no route."""
    ranks = Ranks()
    rows = [_row(ranks, position) for position in positions]
    table = np.array(rows, dtype=np.int32).reshape(len(rows), 9)
    flags = table[:, :6].astype(bool)
    return Columns(
        unread=flags[:, 0],
        listed=flags[:, 1],
        held=flags[:, 2],
        pending=flags[:, 3],
        ordered=flags[:, 4],
        stranded=np.array(stranded, dtype=bool),
        empty=flags[:, 5],
        installed=table[:, 6],
        target=table[:, 7],
        offset=table[:, 8],
        security=np.array(ranks.security, dtype=np.int32),
    )


def _row(ranks: Ranks, position: Position) -> tuple[int, ...]:
    component, product, target = position.component, position.product, position.target
    empty = component.is_empty
    unread = not empty and (component.version is None or not component.version.strip())
    pending = _is_pending(position)
    if product is None or target is None or unread or target.version is None:
        held = target is not None and target.held
        return (unread, product is not None, held, pending, False, empty, 0, 0, 0)
    number = ranks.product(product)
    if empty:
        want = ranks.rank(number, product, target.version)
        return (False, True, target.held, False, want is not None, True, 0, want or 0, ranks.offsets[number])
    have = ranks.rank(number, product, component.version or "")
    want = ranks.rank(number, product, target.version)
    if have is None or want is None:
        same = (component.version or "").strip() == target.version.strip()
        return (unread, True, target.held, pending, same, False, 0, 0, ranks.offsets[number])
    have = _separate(product, component.version or "", target.version, have, want)
    return (unread, True, target.held, pending, True, False, have, want, ranks.offsets[number])


def _separate(product: Product, version: str, target: str, have: int, want: int) -> int:
    """Between two releases ranks coincide: nudge by the true order (a pin that no release equals)."""
    if have != want or want % 2 == 1:
        return have
    mine, goal = product.key(version) or (), product.key(target) or ()
    return have + (mine > goal) - (mine < goal)


def _is_pending(position: Position) -> bool:
    component, product = position.component, position.product
    if not component.has_waiting or component.version is None:
        return False
    if product is None:
        return True
    key = product.key(component.waiting or "")
    return key is None or key != product.key(component.version)


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """The drift of one component, as the command line and the API give it (D8, D12, D13)."""

    slot: str
    product: str | None
    installed: str | None
    target: str | None
    verdict: Verdict
    behind: int | None
    missed_importance: str | None
    rule: int | None
    since: datetime.date | None
    fixes: tuple[str, ...]
    fixes_beyond: tuple[str, ...]
    route: bool | None
    reason: str
    score: float | None = None
    """The worst score of an advisory that the missed releases close."""


def describe(position: Position, verdict: Verdict, behind: int, stranded: str | None) -> Drift:
    """Everything the person is told of one component beyond its verdict."""
    component, product, target = position.component, position.product, position.target
    counted = verdict not in (Verdict.UNREAD, Verdict.UNLISTED, Verdict.HELD, Verdict.UNORDERED)
    distance = counted and not component.is_empty
    if verdict is Verdict.PENDING:
        # It is measured by its active version, where that can be ordered (D8).
        distance = product is not None and product.key(component.version or "") is not None
    missed: tuple[Release, ...] = ()
    beyond: tuple[Release, ...] = ()
    if product is not None and component.version is not None:
        newest = product.ordered[-1].version if product.ordered else None
        if distance and target is not None and target.version is not None:
            missed = product.between(component.version, target.version)
        if newest is not None:
            above = product.between(component.version, newest)
            beyond = tuple(release for release in above if release not in missed)
    routed = verdict in (Verdict.BEHIND, Verdict.EXPOSED, Verdict.STRANDED, Verdict.PENDING)
    return Drift(
        slot=component.slot,
        product=product.id if product else None,
        installed=component.version,
        target=target.version if target else None,
        verdict=verdict,
        behind=behind if distance else None,
        missed_importance=worst_importance(missed),
        rule=target.rule if target else None,
        since=missed[0].released if missed else None,
        fixes=_fix_ids(missed),
        fixes_beyond=_fix_ids(tuple(r for r in beyond if r.importance == "security")),
        route=(stranded is None) if routed else None,
        reason=stranded or (target.reason if target else position.match.reason),
        score=max((f.score for r in missed for f in r.fixes if f.score is not None), default=None),
    )


def _fix_ids(releases: Sequence[Release]) -> tuple[str, ...]:
    return tuple(fix.id for release in releases for fix in release.fixes)


def judge_server(positions: Sequence[Position], stranded: Mapping[str, str]) -> tuple[Drift, ...]:
    """The drift of one server's components, in the order given."""
    if not positions:
        return ()
    lost = [position.component.slot in stranded for position in positions]
    judged = judge(build_columns(positions, lost))
    return tuple(
        describe(position, Verdict(int(verdict)), int(behind), stranded.get(position.component.slot))
        for position, verdict, behind in zip(positions, judged.verdict, judged.behind, strict=True)
    )


def signature(model: str, positions: Sequence[Position]) -> tuple[object, ...]:
    """What makes two servers equal for drift and route: model, products, issues, versions, targets and rules."""
    rows = sorted(
        (
            p.product.id if p.product else "",
            p.component.version or "",
            p.component.waiting or "",
            (p.component.state or "", p.component.can_set_up),
            f"{i.maker} {i.catalog} {i.issue}" if (i := p.match.issue) else "",
            (p.target.version or "-") if p.target else "",
            p.target.rule if p.target and p.target.rule is not None else -1,
            p.target.reason if p.target and p.target.held else "",
            (
                str(p.component.updateable),
                p.component.origin == "host report",
                p.component.untold,
                p.component.by_image,
                p.component.shared,
            ),
            p.component.slot,
        )
        for p in positions
    )
    return (model, tuple(rows))
