"""Rules, coverage and the resulting list as the API gives them."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from ordnung.core.catalog import Product
from ordnung.core.coverage import tell_coverage
from ordnung.core.folds import Placed
from ordnung.core.listing import BaselineLine, list_baseline
from ordnung.core.matching import Catalogs
from ordnung.core.rule_check import RuleFinding
from ordnung.core.rules import Rule
from ordnung.server.shapes import row_from

NAMES_SHOWN = 60
"""Names of servers that go with a line; there may be thousands."""
_KIND_WORDS = {
    "bios": "BIOS", "controller": "management controller", "raid": "RAID controller", "nic": "NIC",
    "drive": "drive", "power": "power supply", "backplane": "backplane", "logic": "programmable logic",
    "store": "service partition", "other": "other component",
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class CoverageRow:
    """One model against one catalog; ``model`` is empty for a list for every model, ``maker`` without any catalog."""

    model: str
    servers: int
    maker: str
    catalog: str
    covered: list[str]
    followed: str | None
    chosen: bool
    dropped_after: str | None
    newest: str | None
    signed_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SaidByRow:
    name: str
    maker: str
    signed_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class BaselineLineRow:
    product: str
    name: str
    kind: str
    target: str | None
    held: bool
    issues: list[SaidByRow]
    rule: int | None
    why: str
    fitted: int
    servers: list[str]
    server_count: int
    models: list[str]
    importance: str | None
    released: datetime.date | None
    newer: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class RuleRow:
    do: Literal["hold", "pin", "wait", "take"]
    where: dict[str, list[str]]
    version: str | None
    days: int | None
    unless_score: float | None
    reason: str
    author: str
    until: datetime.date | None
    what: str
    matches: int
    decides: int
    note: str


def rule_rows(rules: Sequence[Rule], findings: Sequence[RuleFinding], products: Mapping[str, Product]) -> list[RuleRow]:
    """Each rule with what it does here."""
    return [
        row_from(
            RuleRow, rule, where={key: list(values) for key, values in rule.where.items()},
            days=rule.days if rule.do == "wait" else None, what=tell_where(rule.where, products),
            matches=finding.matches, decides=finding.decides, note=finding.note,
        )
        for rule, finding in zip(rules, findings, strict=True)
    ]  # fmt: skip


def tell_where(where: Mapping[str, Sequence[str]], products: Mapping[str, Product]) -> str:
    """The condition of a rule in words."""
    if not where:
        return "everything else"
    parts = []
    if "kind" in where:
        parts.append("every " + " or ".join(_KIND_WORDS.get(v, v) for v in where["kind"]))
    if "product" in where:
        parts.append(" or ".join(products[p].name if p in products else p for p in where["product"]))
    for key, word in (("model", "in"), ("group", "in the group"), ("server", "in")):
        if key in where:
            parts.append(f"{word} {' or '.join(where[key])}")
    return " ".join(parts)


def coverage_rows(models: dict[str, int], catalogs: Catalogs) -> list[CoverageRow]:
    """Each model's bar; issues it follows unsigned are marked."""
    signed = {(i.maker, i.catalog, i.issue): i.signed_by for i in catalogs.issues}
    return [
        row_from(
            CoverageRow, line, covered=list(line.covered),
            signed_by=signed.get((line.maker, line.catalog, line.followed or ""), ""),
        )
        for line in tell_coverage(models, catalogs)
    ]  # fmt: skip


def line_rows(placed: Sequence[Placed]) -> list[BaselineLineRow]:
    """The resulting list."""
    return [_line(line) for line in list_baseline(placed)]


def _line(line: BaselineLine) -> BaselineLineRow:
    product, target = line.product, line.target
    release = product.find(target.version) if target.version else None
    newer = [r.version for r in product.ordered]
    position = newer.index(release.version) + 1 if release is not None and release.version in newer else len(newer)
    return BaselineLineRow(
        product=product.id,
        name=product.name,
        kind=product.kind,
        target=target.version,
        held=target.held,
        issues=[SaidByRow(name=i.issue, maker=i.maker, signed_by=i.signed_by) for i in line.issues],
        rule=target.rule,
        why=target.reason,
        fitted=line.fitted,
        servers=list(line.names),
        server_count=line.servers,
        models=list(line.models),
        importance=release.importance if release else None,
        released=release.released if release else None,
        newer=newer[position:] if target.version else [],
    )
