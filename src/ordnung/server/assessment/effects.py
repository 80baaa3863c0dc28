"""The effect of a draft on this fleet, and the differences between two revisions."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ordnung.core.catalog import Issue
from ordnung.core.effect import CostMemory, Effect, Sums, TargetChange, compare_baselines
from ordnung.core.matching import Follows
from ordnung.core.rule_check import check_rules, fit_together
from ordnung.core.rules import Rule
from ordnung.server.assessment.current import Assessment
from ordnung.server.baselines.models import Revision
from ordnung.server.baselines.rows import BaselineLineRow, CoverageRow, RuleRow, coverage_rows, line_rows, rule_rows
from ordnung.server.clock import now
from ordnung.server.shapes import row_from


@dataclass(frozen=True, slots=True, kw_only=True)
class SumsRow:
    off: int
    exposed: int
    held: int
    servers: int
    outages: int
    power_cycles: int
    restarts: int
    writes: int
    bytes: int
    stranded: int
    fixes: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class EffectRow:
    before: SumsRow
    after: SumsRow
    fixes_gained: list[str]
    fixes_lost: list[str]
    changes: list[TargetChange]


@dataclass(frozen=True, slots=True, kw_only=True)
class DraftEffectRow:
    effect: EffectRow
    rules: list[RuleRow]
    coverage: list[CoverageRow]
    lines: list[BaselineLineRow]


_lock = threading.Lock()
_kept: tuple[tuple[Issue, ...], CostMemory] = ((), CostMemory())


def _memory(issues: tuple[Issue, ...]) -> CostMemory:
    """What was worked out before with these very issues. They are kept, so that an id means one thing only."""
    global _kept
    if len(_kept[0]) != len(issues) or any(a is not b for a, b in zip(_kept[0], issues, strict=True)):
        _kept = (issues, CostMemory())
    return _kept[1]


def effect_of(assessment: Assessment, rules: Sequence[Rule], follows: Follows) -> Effect:
    """A draft against the revision that holds."""
    with _lock:
        after = (assessment.catalogs.following(follows), rules)
        memory = _memory(assessment.catalogs.issues)
        return compare_baselines(assessment.folds, None, after, now().date(), memory, assessment.groups)


def effect_between(
    assessment: Assessment, one: tuple[Sequence[Rule], Follows], other: tuple[Sequence[Rule], Follows]
) -> Effect:
    """Two revisions on the fleet as it is today."""
    with _lock:
        before, after = ((assessment.catalogs.following(follows), rules) for rules, follows in (one, other))
        return compare_baselines(
            assessment.folds, before, after, now().date(), _memory(assessment.catalogs.issues), assessment.groups
        )  # fmt: skip


def sums_row(sums: Sums) -> SumsRow:
    """The sums of one baseline."""
    return row_from(SumsRow, sums, fixes=sorted(sums.fixes))


def effect_row(effect: Effect) -> EffectRow:
    """Both sums, what of advisories is gained and lost, and whose target changes."""
    return EffectRow(
        before=sums_row(effect.before),
        after=sums_row(effect.after),
        fixes_gained=sorted(effect.after.fixes - effect.before.fixes),
        fixes_lost=sorted(effect.before.fixes - effect.after.fixes),
        changes=list(effect.changes),
    )


def draft_row(assessment: Assessment, rules: Sequence[Rule], follows: Follows) -> DraftEffectRow:
    """Everything the place shows of a draft while it is edited."""
    effect = effect_of(assessment, rules, follows)
    catalogs = assessment.catalogs.following(follows)
    findings = check_rules(fit_together(assessment.folds, rules, assessment.groups), rules, now().date())
    return DraftEffectRow(
        effect=effect_row(effect),
        rules=rule_rows(rules, findings, assessment.catalogs.by_id),
        coverage=coverage_rows(assessment.models, catalogs),
        lines=line_rows(effect.placed),
    )


def tell_differences(one: Revision, other: Revision) -> list[str]:
    """What a person changed from one revision to another, in sentences."""
    old, new = (list(r.rules.get("rules", ())) for r in (one, other))
    lines = [f"rule taken out: {_tell(rule)}" for rule in old if rule not in new]
    lines += [f"rule added: {_tell(rule)}" for rule in new if rule not in old]
    kept_old, kept_new = [r for r in old if r in new], [r for r in new if r in old]
    if kept_old != kept_new:
        lines.append("the order of the rules")
    before, after = ({(f["model"], f["catalog"]): f["issue"] for f in r.follows if f["catalog"]} for r in (one, other))
    for key in sorted(before.keys() | after.keys()):
        have, want = before.get(key, "the newest as it comes"), after.get(key, "the newest as it comes")
        if have != want:
            lines.append(f"{key[0] or 'every model'} follows {want} of {key[1]} instead of {have}")
    return lines


def _tell(rule: dict[str, Any]) -> str:
    where = ", ".join(" or ".join([v] if isinstance(v, str) else v) for v in rule.get("where", {}).values())
    what = {"pin": f" to {rule.get('version')}", "wait": f" {rule.get('days')} days"}.get(rule["do"], "")
    return f"{rule['do']} {where or 'everything'}{what}"
