"""The baseline as a list: what each product should run here, from which issue, by which rule, where fitted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.baseline import Position
from ordnung.core.catalog import Issue, Product
from ordnung.core.folds import Placed
from ordnung.core.rules import Target

NAMES = 60
"""Names that go with a line. Those of a fold are in order, so the first of each hold the first of all."""


@dataclass(frozen=True, slots=True, kw_only=True)
class BaselineLine:
    """What the baseline says of one product, and where it is fitted. ``fitted`` counts components."""

    product: Product
    target: Target
    issues: tuple[Issue, ...]
    fitted: int
    servers: int
    names: tuple[str, ...]
    """The first of the servers, by name: of thousands nobody reads more."""
    models: tuple[str, ...]


def list_baseline(placed: Sequence[Placed]) -> tuple[BaselineLine, ...]:
    """A line per product, target and rule, in order of product name; ``issues`` are those that say so, oldest first."""
    found: dict[_Key, list[tuple[Placed, Position, int]]] = {}
    for fold in placed:
        counted: dict[_Key, tuple[Position, int]] = {}
        for position in fold.positions:
            if position.product is not None and position.target is not None and position.match.issue is not None:
                target = position.target
                key = (position.product.id, target.version, target.held, target.rule)
                counted[key] = (position, counted[key][1] + 1 if key in counted else 1)
        for key, (position, count) in counted.items():
            found.setdefault(key, []).append((fold, position, count))
    lines = [_line(pieces) for pieces in found.values()]
    return tuple(sorted(lines, key=lambda line: (line.product.name, line.target.version or "", line.issues[0].issued)))


_Key = tuple[str, str | None, bool, int | None]


def _line(pieces: list[tuple[Placed, Position, int]]) -> BaselineLine:
    issues = {i.name: i for _, position, _ in pieces if (i := position.match.issue) is not None}
    ordered = sorted(issues.values(), key=lambda issue: issue.issued)
    # The newest issue tells the product: what it lists beyond the target is what was not chosen.
    position = max(
        (p for _, p, _ in pieces), key=lambda p: p.match.issue.issued if p.match.issue else ordered[0].issued
    )
    assert position.product is not None and position.target is not None
    return BaselineLine(
        product=position.product,
        target=position.target,
        issues=tuple(ordered),
        fitted=sum(count * len(fold.names) for fold, _, count in pieces),
        servers=sum(len(fold.names) for fold, _, _ in pieces),
        names=tuple(sorted(name for fold, _, _ in pieces for name in fold.names[:NAMES])[:NAMES]),
        models=tuple(sorted({fold.model for fold, _, _ in pieces})),
    )
