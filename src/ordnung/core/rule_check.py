"""What each house rule does on this fleet: what it matches, what it decides, and when it does nothing."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from ordnung.core.catalog import Product
from ordnung.core.components import Server
from ordnung.core.folds import Fold
from ordnung.core.rules import Rule


@dataclass(frozen=True, slots=True, kw_only=True)
class RuleFinding:
    """One rule on this fleet. ``note`` is empty unless the rule does nothing; then it says why.

    Counts are of (server, product) pairs; ``shadowed_by`` are the places of the rules that come first.
    """

    matches: int
    decides: int
    shadowed_by: tuple[int, ...] = ()
    note: str = ""


@dataclass(frozen=True, slots=True)
class Fitting:
    """Servers that are alike for every rule, and the products fitted in them."""

    server: Server
    products: tuple[Product, ...]
    count: int


def fit_together(folds: Sequence[Fold], rules: Sequence[Rule], groups: Mapping[str, str | None]) -> tuple[Fitting, ...]:
    """The fleet as the rules can tell it apart: by model and products, by name and group where a rule names one."""
    named = {name for rule in rules for name in rule.where.get("server", ())}
    named_groups = {name for rule in rules for name in rule.where.get("group", ())}
    found: dict[tuple[object, ...], tuple[Server, tuple[Product, ...], int]] = {}
    for fold in folds:
        server = fold.standing.server
        products = tuple({p.product.id: p.product for p in fold.standing.positions if p.product}.values())
        alike = (server.model, tuple(product.id for product in products))
        for (name, group), count in _tell_apart(fold.names, named, named_groups, groups).items():
            key = (*alike, name, group)
            known = found[key] if key in found else (replace(server, name=name or "", group=group), products, 0)
            found[key] = (known[0], products, known[2] + count)
    return tuple(Fitting(server, products, count) for server, products, count in found.values())


def _tell_apart(
    names: Sequence[str], named: set[str], named_groups: set[str], groups: Mapping[str, str | None]
) -> Mapping[tuple[str | None, str | None], int]:
    """How many of equal servers each rule could tell apart, by name and by group."""
    if not named and not named_groups:
        return {(None, None): len(names)}
    return Counter(
        (name if name in named else None, g if (g := groups.get(name)) in named_groups else None) for name in names
    )


def check_rules(fittings: Sequence[Fitting], rules: Sequence[Rule], today: datetime.date) -> tuple[RuleFinding, ...]:
    """A finding per rule, in order."""
    matches, decides = [0] * len(rules), [0] * len(rules)
    before: list[set[int]] = [set() for _ in rules]
    for fitting in fittings:
        for product in fitting.products:
            hit = [n for n, rule in enumerate(rules) if rule.applies(fitting.server, product, today)]
            for place in hit:
                matches[place] += fitting.count
            if hit:
                decides[hit[0]] += fitting.count
                for place in hit[1:]:
                    before[place].add(hit[0])
    return tuple(
        RuleFinding(
            matches=matches[n],
            decides=decides[n],
            shadowed_by=tuple(sorted(before[n])) if matches[n] and not decides[n] else (),
            note=_note(rule, matches[n], decides[n], sorted(before[n]), today),
        )
        for n, rule in enumerate(rules)
    )


def _note(rule: Rule, matches: int, decides: int, before: Sequence[int], today: datetime.date) -> str:
    if rule.until is not None and today > rule.until:
        return f"ended on {rule.until.isoformat()}; it decides nothing any more"
    if not matches:
        return "matches nothing that is fitted here"
    if not decides:
        places = " and ".join(str(place + 1) for place in before)
        return f"decides nothing: rule {places} comes first for everything it matches"
    return ""
