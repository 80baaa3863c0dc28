"""One product over several issues: the same release is one release, a changed one is a conflict."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.catalog import Issue, Product, Release

_CONTENT = ("payload", "direct_from", "needs", "activation", "alone", "floor_after")
"""What a release is and how it is written. Notes, dates and scores may be put right without being another release."""


def join_products(products: Sequence[Product]) -> Product:
    """One product from its appearances, the newest first: what two name is as the newer one tells it.

    Releases that only older issues list stand where their version belongs; in a ``listed`` product
    after the release they followed there.
    """
    newest = products[0]
    releases = list(newest.releases)
    for older in products[1:]:
        after = 0
        for release in older.releases:
            place = next((n for n, r in enumerate(releases) if _is_same(newest, r, release)), None)
            if place is None:
                releases.insert(after, release)
                place = after
            after = place + 1
    if len(releases) == len(newest.releases):
        return newest
    if newest.scheme != "listed":
        releases.sort(key=lambda release: (newest.key(release.version) is None, newest.key(release.version) or ()))
    return dataclasses.replace(newest, releases=tuple(releases))


def _is_same(product: Product, one: Release, other: Release) -> bool:
    if one.version.strip() == other.version.strip():
        return True
    if product.scheme == "listed":
        return False
    key = product.key(one.version)
    return key is not None and key == product.key(other.version)


@dataclass(frozen=True, slots=True, kw_only=True)
class Conflict:
    """One version of one product that two issues describe differently."""

    product: str
    name: str
    version: str
    older: str
    newer: str
    fields: tuple[str, ...]


def find_conflicts(issues: Sequence[Issue]) -> tuple[Conflict, ...]:
    """Releases whose content changed between a maker's issues under the same version, by product and version."""
    last: dict[tuple[str, str, object], tuple[Release, Issue]] = {}
    found = []
    for issue in sorted(issues, key=lambda i: (i.issued, i.issue)):
        for product in issue.products:
            for release in product.releases:
                key = product.key(release.version)
                same = (
                    issue.maker,
                    product.id,
                    release.version.strip() if key is None or product.scheme == "listed" else key,
                )
                if same in last and (changed := _changed(last[same][0], release)):
                    older = last[same][1]
                    found.append(_conflict(product, release, older, issue, changed))
                last[same] = (release, issue)
    return tuple(sorted(found, key=lambda c: (c.name, c.version, c.newer)))


def _changed(one: Release, other: Release) -> tuple[str, ...]:
    return tuple(name for name in _CONTENT if _content(one, name) != _content(other, name))


def _content(release: Release, name: str) -> object:
    if name == "payload" and release.payload is not None:
        return release.payload.sha256
    return getattr(release, name)


def _conflict(product: Product, release: Release, older: Issue, newer: Issue, fields: tuple[str, ...]) -> Conflict:
    return Conflict(
        product=product.id, name=product.name, version=release.version, older=older.name, newer=newer.name,
        fields=fields,
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class IssueChange:
    """One line of what changed from one issue to another: a model, a product or a release."""

    what: str
    """``model``, ``product`` or ``release``."""
    change: str
    """``added``, ``dropped`` or ``changed``."""
    name: str
    detail: str = ""


def compare_issues(old: Issue, new: Issue) -> tuple[IssueChange, ...]:
    """What a newer issue adds, drops and changes: models, products, releases."""
    found = [IssueChange(what="model", change="dropped", name=m) for m in old.models if m not in new.models]
    found += [IssueChange(what="model", change="added", name=m) for m in new.models if m not in old.models]
    before, after = ({p.id: p for p in issue.products} for issue in (old, new))
    found += [IssueChange(what="product", change="dropped", name=before[n].name) for n in before if n not in after]
    found += [IssueChange(what="product", change="added", name=after[n].name) for n in after if n not in before]
    for name in before:
        if name in after:
            found += _compare_releases(before[name], after[name])
    return tuple(found)


def _compare_releases(old: Product, new: Product) -> list[IssueChange]:
    found = []
    for release in old.releases:
        again = new.find(release.version)
        name = f"{new.name} {release.version}"
        if again is None:
            found.append(IssueChange(what="release", change="dropped", name=name))
        elif fields := _changed(release, again):
            found.append(IssueChange(what="release", change="changed", name=name, detail=", ".join(fields)))
    return found + [
        IssueChange(
            what="release", change="added", name=f"{new.name} {release.version}", detail=release.importance or ""
        )
        for release in new.releases
        if old.find(release.version) is None
    ]
