"""Rules, coverage and the resulting list as the API gives them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ordnung.core.catalog import Product
from ordnung.core.coverage import tell_coverage
from ordnung.core.folds import Placed
from ordnung.core.listing import BaselineLine, list_baseline
from ordnung.core.matching import Catalogs
from ordnung.core.rule_check import RuleFinding
from ordnung.core.rules import Rule

NAMES_SHOWN = 60
"""Names of servers that go with a line; there may be thousands."""
_KIND_WORDS = {
    "bios": "BIOS", "controller": "management controller", "raid": "RAID controller", "nic": "NIC",
    "drive": "drive", "power": "power supply", "backplane": "backplane", "logic": "programmable logic",
    "store": "service partition", "other": "other component",
}  # fmt: skip


def rule_rows(
    rules: Sequence[Rule], findings: Sequence[RuleFinding], products: Mapping[str, Product]
) -> list[dict[str, Any]]:
    """Each rule with what it does here."""
    return [
        {
            "do": rule.do,
            "where": {key: list(values) for key, values in rule.where.items()},
            "version": rule.version,
            "days": rule.days if rule.do == "wait" else None,
            "unless_score": rule.unless_score,
            "reason": rule.reason,
            "author": rule.author,
            "until": rule.until,
            "what": tell_where(rule.where, products),
            "matches": finding.matches,
            "decides": finding.decides,
            "note": finding.note,
        }
        for rule, finding in zip(rules, findings, strict=True)
    ]


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


def coverage_rows(models: dict[str, int], catalogs: Catalogs) -> list[dict[str, Any]]:
    """Each model's bar; issues it follows unsigned are marked."""
    signed = {(i.maker, i.catalog, i.issue): i.signed_by for i in catalogs.issues}
    names = ("model", "servers", "maker", "catalog", "followed", "chosen", "dropped_after", "newest")
    return [
        {
            **{name: getattr(line, name) for name in names},
            "covered": list(line.covered),
            "signed_by": signed.get((line.maker, line.catalog, line.followed or ""), ""),
        }
        for line in tell_coverage(models, catalogs)
    ]


def line_rows(placed: Sequence[Placed]) -> list[dict[str, Any]]:
    """The resulting list."""
    return [_line(line) for line in list_baseline(placed)]


def _line(line: BaselineLine) -> dict[str, Any]:
    release = line.product.find(line.target.version) if line.target.version else None
    newer = [r.version for r in line.product.ordered]
    position = newer.index(release.version) + 1 if release is not None and release.version in newer else len(newer)
    return {
        "product": line.product.id,
        "name": line.product.name,
        "kind": line.product.kind,
        "target": line.target.version,
        "held": line.target.held,
        "issues": [{"name": i.issue, "maker": i.maker, "signed_by": i.signed_by} for i in line.issues],
        "rule": line.target.rule,
        "why": line.target.reason,
        "fitted": line.fitted,
        "servers": list(line.names),
        "server_count": line.servers,
        "models": list(line.models),
        "importance": release.importance if release else None,
        "released": release.released if release else None,
        "newer": newer[position:] if line.target.version else [],
    }
