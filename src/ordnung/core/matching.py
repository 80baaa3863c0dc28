"""Which product a component is: all issues at hand, which of them a model follows, and what fits what."""

from __future__ import annotations

import datetime
import fnmatch
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from ordnung.core.catalog import Issue, Product
from ordnung.core.components import Component
from ordnung.core.releases import join_products

Follows = Mapping[tuple[str, str, str], str]
"""(model, maker, catalog) -> the issue that model follows; model "" speaks for lists that name no models.

(model, "", "") -> "" says of a model that nothing naming it was followed. Empty as a whole, every
model follows the newest issue that covers it, as it comes.
"""


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
    follows: Follows = field(default_factory=dict)
    _cache: dict[tuple[str | None, ...], Match] = field(default_factory=dict, repr=False)

    def following(self, follows: Follows) -> Catalogs:
        """The same issues with other choices of what each model follows."""
        return Catalogs(self.issues, follows)

    def for_model(self, model: str) -> tuple[Issue, ...]:
        """Per catalog the issue that ``model`` follows: the chosen one, else the latest that covers it (D2)."""
        found: dict[tuple[str, str], Issue] = {}
        for issue in self.issues:
            name = (issue.maker, issue.catalog)
            if not issue.covers(model) or not self._is_followed(model, issue):
                continue
            if name not in found or self._is_better(model, issue, found[name]):
                found[name] = issue
        return tuple(found[name] for name in sorted(found))

    def _is_followed(self, model: str, issue: Issue) -> bool:
        """Whether this catalog counts for a model: once decided, a catalog that came later does not by itself."""
        if not self.follows or self.chosen(model, issue) is not None:
            return True
        return bool(issue.models) and model not in self._decided

    @cached_property
    def _decided(self) -> set[str]:
        return {model for model, _, _ in self.follows}

    def _is_better(self, model: str, issue: Issue, other: Issue) -> bool:
        chosen = self.chosen(model, issue)
        if chosen is not None and (issue.issue == chosen) != (other.issue == chosen):
            return issue.issue == chosen
        return issue.issued > other.issued

    def chosen(self, model: str, issue: Issue) -> str | None:
        """Which issue of this catalog the house chose for a model, if it chose one."""
        return self.follows.get((model if issue.models else "", issue.maker, issue.catalog))

    def freeze(self, models: Iterable[str]) -> dict[tuple[str, str, str], str]:
        """What these models follow now, spelled out: a later issue changes nothing for them."""
        found: dict[tuple[str, str, str], str] = {}
        for model in sorted(set(models)):
            issues = self.for_model(model)
            found |= {(model if i.models else "", i.maker, i.catalog): i.issue for i in issues}
            if not any(issue.models for issue in issues):
                found[model, "", ""] = ""
        return found

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
                if self.owners.get(product.id) != issue.maker:
                    continue
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

    @cached_property
    def owners(self) -> dict[str, str]:
        """Whose each product is: another maker's catalog can't add to a product or replace it.

        A product belongs to the maker whose catalog is followed, then to the one who lists it signed, then to the
        one that listed it first by the date of the issue, then by name: what comes later changes no decided house.
        """
        followed = {(maker, catalog) for _, maker, catalog in self.follows}
        ranked: dict[str, tuple[bool, bool, datetime.date, str]] = {}
        for issue in self.issues:
            rank = ((issue.maker, issue.catalog) not in followed, not issue.signed_by, issue.issued, issue.maker)
            for product in issue.products:
                ranked[product.id] = min(ranked.get(product.id, rank), rank)
        return {name: rank[-1] for name, rank in ranked.items()}

    @cached_property
    def by_id(self) -> dict[str, Product]:
        """Every product by id, its owner's appearances joined: a release in two issues is one."""
        found: dict[str, list[Product]] = {}
        for issue in sorted(self.issues, key=lambda i: i.issued, reverse=True):
            for product in issue.products:
                if self.owners[product.id] == issue.maker:
                    found.setdefault(product.id, []).append(product)
        return {name: join_products(found[name]) for name in sorted(found)}

    def products(self) -> tuple[Product, ...]:
        """Every product of all issues, by id."""
        return tuple(self.by_id.values())


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
        parts, have = pattern.lower().split(":"), fact.lower().split(":")
        return len(parts) == len(have) and all(map(fnmatch.fnmatchcase, have, parts))
    return fact == pattern


@dataclass(frozen=True, slots=True)
class Tie:
    """Two products of one issue that some component would fit equally well: an error of the catalog."""

    one: str
    other: str
    entry: dict[str, str]


def find_ties(issue: Issue) -> tuple[Tie, ...]:
    """Pairs of products with entries of the same keys that one component can satisfy both (D1)."""
    by_keys: dict[tuple[str, ...], list[tuple[Product, dict[str, str]]]] = {}
    ties: dict[tuple[str, str], Tie] = {}
    for product in issue.products:
        for entry in product.fits:
            rest = tuple(sorted((key, value) for key, value in entry.items() if key != "pci"))
            bucket = by_keys.setdefault((str("pci" in entry), *map(str, rest)), [])
            for other, theirs in bucket:
                if other.id != product.id and _overlap(entry.get("pci"), theirs.get("pci")):
                    ties.setdefault((other.id, product.id), Tie(other.id, product.id, entry))
            bucket.append((product, entry))
    return tuple(ties.values())


def _overlap(one: str | None, other: str | None) -> bool:
    if one is None or other is None:
        return one is other
    pairs = zip(one.lower().split(":"), other.lower().split(":"), strict=True)
    return all(a == b or "*" in (a, b) for a, b in pairs)
