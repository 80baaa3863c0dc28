"""Routes that no catalog asks for: what practised people try where a device takes less than its maker says (N6.5)."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence, Set

from ordnung.core.baseline import Position
from ordnung.core.catalog import Product, Release
from ordnung.core.versions import is_at_least


def go_alone(positions: Sequence[Position], slots: Set[str]) -> tuple[Position, ...]:
    """The positions with every release of some components to be written alone (R2), whatever the catalog says."""
    return tuple(_alone(p, p.product) if p.product and p.component.slot in slots else p for p in positions)


def _alone(position: Position, product: Product) -> Position:
    releases = tuple(dataclasses.replace(release, alone=True) for release in product.releases)
    match = dataclasses.replace(position.match, product=dataclasses.replace(product, releases=releases))
    return dataclasses.replace(position, match=match)


def release_between(position: Position, to: str) -> Release | None:
    """The newest release with a file between the version that a component has and a newer one; None: there is none."""
    product, version = position.product, position.component.version
    if product is None or version is None:
        return None
    passed = [release for release in product.between(version, to) if release.payload is not None]
    older = [release for release in passed if not is_at_least(product.scheme, release.version, to, product.listed)]
    return older[-1] if older else None


def go_between(positions: Sequence[Position], steps: Mapping[str, str]) -> tuple[Position, ...]:
    """The positions with one release more on the way of some components: to the version named for each it is written
    only over the newest release before that one (``direct_from``, R3), whatever the catalog says.
    """
    return tuple(_between(p, steps[p.component.slot]) if p.component.slot in steps else p for p in positions)


def _between(position: Position, to: str) -> Position:
    step, product = release_between(position, to), position.product
    wanted = product.find(to) if product is not None else None
    if step is None or product is None or wanted is None:
        return position
    over = dataclasses.replace(wanted, direct_from=step.version)
    passed = product.between(step.version, to)  # of those above the step, only the one that is wanted is gone to
    releases = tuple(
        over if release is wanted else release
        for release in product.releases
        if release is wanted or release not in passed
    )
    match = dataclasses.replace(position.match, product=dataclasses.replace(product, releases=releases))
    return dataclasses.replace(position, match=match)
