"""House rules (hold, pin, wait, take: first match wins) and the target they choose."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ordnung.core.catalog import Product, Release
from ordnung.core.components import Server

WHERE_KEYS = ("kind", "product", "model", "server", "group")


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """One house rule. ``where`` is a conjunction; each value lists the alternatives (D4)."""

    do: str
    where: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    version: str | None = None
    days: int = 0
    unless_score: float | None = None
    reason: str = ""
    author: str = ""
    until: datetime.date | None = None

    def applies(self, server: Server, product: Product, today: datetime.date) -> bool:
        """Whether the rule concerns this product in this server on this day (D3, D4)."""
        if self.until is not None and today > self.until:
            return False
        facts = {
            "kind": product.kind,
            "product": product.id,
            "model": server.model,
            "server": server.name,
            "group": server.group,
        }
        return all(facts[key] in values for key, values in self.where.items())


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """What a baseline wants of a product in a server.

    ``version`` is None when held or when nothing can be a target (D10); ``rule`` is the
    zero-based place of the rule that decided, None without one.
    """

    version: str | None
    held: bool = False
    rule: int | None = None
    reason: str = ""


FIXED_RULES: tuple[Rule, ...] = (
    Rule(
        do="hold",
        where={"kind": ("power",)},
        reason="a failed write can kill a power supply: replaced by hand, not flashed",
        author="house",
    ),
    Rule(do="take", reason="newest release of the issue", author="house"),
)
"""The rules every house starts with."""


def decide_target(server: Server, product: Product, rules: Sequence[Rule], today: datetime.date) -> Target:
    """The target of a product in a server: the first rule that applies decides (D4 to D6, D10)."""
    for place, rule in enumerate(rules):
        if rule.applies(server, product, today):
            return _carry_out(rule, place, product, today)
    return _newest(product, None, "newest release; no rule applies")


def _carry_out(rule: Rule, place: int, product: Product, today: datetime.date) -> Target:
    if rule.do == "hold":
        return Target(version=None, held=True, rule=place, reason=rule.reason or "held")
    if rule.do == "pin":
        return Target(version=rule.version, rule=place, reason=rule.reason or "pinned")
    if rule.do == "wait":
        return _waited(rule, place, product, today)
    return _newest(product, place, rule.reason or "newest release")


def _newest(product: Product, place: int | None, reason: str) -> Target:
    if not product.ordered:
        return Target(version=None, rule=place, reason="no release of this product can be ordered")
    return Target(version=product.ordered[-1].version, rule=place, reason=reason)


def _waited(rule: Rule, place: int, product: Product, today: datetime.date) -> Target:
    for release in reversed(product.ordered):
        if _is_old_enough(release, rule, today):
            return Target(version=release.version, rule=place, reason=rule.reason or f"at least {rule.days} days old")
    return Target(version=None, held=True, rule=place, reason=f"no release is {rule.days} days old yet")


def _is_old_enough(release: Release, rule: Rule, today: datetime.date) -> bool:
    if release.released is not None and (today - release.released).days >= rule.days:
        return True
    scores = [fix.score for fix in release.fixes if fix.score is not None]
    return (
        rule.unless_score is not None
        and release.importance == "security"
        and max(scores, default=-1.0) >= rule.unless_score
    )
