"""The catalog model: makers' lists of products and their releases, and what fits what."""

from __future__ import annotations

import datetime
import fnmatch
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property

from ordnung.core.components import Component
from ordnung.core.versions import Key, version_key

ACTIVATIONS = ("at once", "controller restart", "server reboot", "power cycle")
IMPORTANCES = ("routine", "stability", "security")
"""From least to most."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Fix:
    """One thing a release puts right; ``score`` is 0 to 10 or unknown."""

    id: str
    score: float | None = None
    title: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Payload:
    """The file that carries a release. ``size`` in bytes, ``sha256`` in lower-case hex."""

    path: str
    size: int
    sha256: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Need:
    """A condition on the active version of every component of a product in the same server."""

    product: str
    at_least: str | None = None
    below: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Release:
    """One version of a product. What is None is unknown, not zero."""

    version: str
    released: datetime.date | None = None
    importance: str | None = None
    fixes: tuple[Fix, ...] = ()
    payload: Payload | None = None
    direct_from: str | None = None
    needs: tuple[Need, ...] = ()
    activation: str | None = None
    write_seconds: float | None = None
    reset_seconds: float | None = None
    alone: bool = False
    floor_after: str | None = None
    notes: str = ""


@dataclass(frozen=True)
class Product:
    """A kind of component as its maker sells it, with its releases, oldest first."""

    id: str
    name: str
    kind: str
    scheme: str = "listed"
    fits: tuple[dict[str, str], ...] = ()
    releases: tuple[Release, ...] = ()

    @cached_property
    def listed(self) -> tuple[str, ...]:
        """The versions in the catalog's order."""
        return tuple(release.version for release in self.releases)

    def key(self, version: str) -> Key | None:
        """The sortable key of any version string under this product's scheme, or None."""
        return version_key(self.scheme, version, self.listed)

    @cached_property
    def ordered(self) -> tuple[Release, ...]:
        """Releases whose version parses, lowest first (V10, V12)."""
        keyed = [(key, release) for release in self.releases if (key := self.key(release.version)) is not None]
        return tuple(release for _, release in sorted(keyed, key=lambda pair: pair[0]))

    @cached_property
    def _by_key(self) -> dict[Key, Release]:
        return {key: release for release in self.ordered if (key := self.key(release.version)) is not None}

    def find(self, version: str) -> Release | None:
        """The release equal to ``version`` by the scheme (V11), or None."""
        key = self.key(version)
        if key is not None:
            return self._by_key.get(key)
        return next((r for r in self.releases if r.version.strip() == version.strip()), None)

    def between(self, above: str | None, upto: str) -> tuple[Release, ...]:
        """The orderable releases in (above, upto]; empty when either cannot be ordered (D8)."""
        low = self.key(above) if above is not None else ()
        high = self.key(upto)
        if low is None or high is None:
            return ()
        return tuple(r for r in self.ordered if low < (self.key(r.version) or ()) <= high)


@dataclass(frozen=True, slots=True, kw_only=True)
class Issue:
    """One dated appearance of a catalog. No ``models`` means that it covers every model (D2)."""

    maker: str
    catalog: str
    issue: str
    issued: datetime.date
    base: str = ""
    models: tuple[str, ...] = ()
    products: tuple[Product, ...] = ()

    def covers(self, model: str) -> bool:
        """Whether this issue speaks for servers of ``model``."""
        return not self.models or model in self.models


@dataclass(frozen=True)
class Match:
    """What a component was found to be: a product, or the reason why none."""

    product: Product | None
    issue: Issue | None = None
    reason: str = ""


@dataclass
class Catalogs:
    """All issues at hand, answering which product a component is."""

    issues: tuple[Issue, ...] = ()
    _cache: dict[tuple[str | None, ...], Match] = field(default_factory=dict, repr=False)

    def for_model(self, model: str) -> tuple[Issue, ...]:
        """Per catalog the latest issue that covers ``model`` (D2)."""
        latest: dict[tuple[str, str], Issue] = {}
        for issue in self.issues:
            name = (issue.maker, issue.catalog)
            if issue.covers(model) and (name not in latest or issue.issued > latest[name].issued):
                latest[name] = issue
        return tuple(latest[name] for name in sorted(latest))

    def match(self, model: str, component: Component) -> Match:
        """The product of a component in a server of ``model`` (D1), with the reason if there is none."""
        question = (model, component.software_id, component.pci, component.part)
        if question not in self._cache:
            self._cache[question] = self._search(model, component)
        return self._cache[question]

    def _search(self, model: str, component: Component) -> Match:
        best: dict[str, tuple[Product, Issue]] = {}
        best_keys = 0
        for issue in self.for_model(model):
            for product in issue.products:
                keys = max((len(f) for f in product.fits if fits(f, model, component)), default=0)
                if keys > best_keys:
                    best, best_keys = {}, keys
                if keys and keys == best_keys:
                    best[product.id] = (product, issue)
        if len(best) == 1:
            product, issue = next(iter(best.values()))
            return Match(product, issue)
        if best:
            return Match(None, reason=f"fits {' and '.join(sorted(best))} equally well")
        return Match(None, reason="no catalog lists it")

    def products(self) -> tuple[Product, ...]:
        """Every product of the latest issues, by id."""
        found: dict[str, tuple[datetime.date, Product]] = {}
        for issue in self.issues:
            for product in issue.products:
                if product.id not in found or issue.issued >= found[product.id][0]:
                    found[product.id] = (issue.issued, product)
        return tuple(found[name][1] for name in sorted(found))


def fits(entry: dict[str, str], model: str, component: Component) -> bool:
    """Whether one ``fits`` entry (a conjunction) holds; a key the reading lacks does not (D1)."""
    facts = {
        "software_id": component.software_id,
        "pci": component.pci,
        "model": model,
        "part": component.part,
    }
    return bool(entry) and all(_fits_key(key, pattern, facts.get(key)) for key, pattern in entry.items())


def _fits_key(key: str, pattern: str, fact: str | None) -> bool:
    if fact is None:
        return False
    if key == "pci":
        wanted, have = pattern.lower().split(":"), fact.lower().split(":")
        return len(wanted) == len(have) and all(map(fnmatch.fnmatchcase, have, wanted))
    return fact == pattern


def worst_importance(releases: Iterable[Release]) -> str | None:
    """The worst known importance among releases, or None."""
    known = [r.importance for r in releases if r.importance in IMPORTANCES]
    return max(known, key=IMPORTANCES.index, default=None)
