"""Drift folded: equal servers in one row, the odd ones first, narrowed by what the person looks for."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from ordnung.core.advisories import assess
from ordnung.core.baseline import Position
from ordnung.core.drift import OFF_BASELINE, Drift, Verdict
from ordnung.core.folds import Fold
from ordnung.server.advisories.store import find_advisory
from ordnung.server.assessment.house import Snapshot
from ordnung.server.assessment.present import glyph_row, resets_text, signature_text

SERVER_KEYS = ("room", "rack", "group", "model")
PART_KEYS = ("product", "kind", "verdict", "importance", "on", "score")
IMPORTANCE_RANK = {"routine": 0, "stability": 1, "security": 2}


@dataclass(frozen=True, slots=True)
class Narrowed:
    """What the person looks at: folds with the names that are left of them."""

    folds: tuple[Fold, ...]
    servers: int
    """Servers in the chosen rooms, racks, groups and models, before components are looked at."""


def narrow(house: Snapshot, asked: Mapping[str, str]) -> Narrowed:
    """The folds that meet the filters. Component filters hold together for one component."""
    keep = _server_filter(house, asked)
    wanted = _part_filter(asked)
    found, servers = [], 0
    for fold in house.folds:
        names = tuple(name for name in fold.names if keep(name))
        servers += len(names)
        pairs = zip(fold.standing.positions, fold.standing.drift, strict=True)
        if names and (wanted is None or any(wanted(p, d) for p, d in pairs)):
            found.append(Fold(fold.standing, names))
    return Narrowed(tuple(found), servers)


def _server_filter(house: Snapshot, asked: Mapping[str, str]) -> Callable[[str], bool]:
    tests: list[Callable[[str], bool]] = []
    tests += [_is(house, key, set(asked[key].split("|"))) for key in SERVER_KEYS if asked.get(key)]
    if names := asked.get("servers"):
        wanted = set(names.split(","))
        tests.append(lambda name: name in wanted)
    if advisory := asked.get("advisory"):
        hit = set(assess(find_advisory(advisory), house.folds, house.catalogs).affected)
        tests.append(lambda name: name in hit)
    return lambda name: all(test(name) for test in tests)


def _is(house: Snapshot, key: str, values: set[str]) -> Callable[[str], bool]:
    if key == "model":
        return lambda name: house.standings[name].server.model in values
    if key == "group":
        return lambda name: (house.groups[name] or "") in values
    if key == "room":
        return lambda name: house.rows[name].room in values
    return lambda name: f"{house.rows[name].room} {house.rows[name].rack}" in values or house.rows[name].rack in values


def _part_filter(asked: Mapping[str, str]) -> Callable[[Position, Drift], bool] | None:
    told = {key: set(asked[key].split("|")) for key in PART_KEYS if asked.get(key) and key != "score"}
    score = _number(asked.get("score"))
    if asked.get("only") == "drift":
        told.setdefault("verdict", {v.word for v in OFF_BASELINE})
    if not told and score is None:
        return None

    def wanted(position: Position, drift: Drift) -> bool:
        facts = {
            "product": drift.product, "kind": position.component.kind, "verdict": drift.verdict.word,
            "importance": drift.missed_importance, "on": drift.installed,
        }  # fmt: skip
        if "product" in told and "on" in told and position.product is not None and facts["product"] in told["product"]:
            # A version of the release line means the release: equal by the product's scheme (V11).
            keys = {position.product.key(v) for v in told["on"]}
            key = position.product.key(drift.installed or "")
            facts["on"] = next(iter(told["on"])) if key is not None and key in keys else facts["on"]
        return all(facts[key] in values for key, values in told.items()) and (
            score is None or (drift.score is not None and drift.score >= score and drift.verdict is Verdict.EXPOSED)
        )

    return wanted


def _number(text: str | None) -> float | None:
    try:
        return float(text) if text else None
    except ValueError:
        return None


def order(folds: Iterable[Fold]) -> list[Fold]:
    """Models by how many, and within each the odd ones first: exposed and far off, few of a kind before many."""
    listed = list(folds)
    counts: Counter[str] = Counter()
    for fold in listed:
        counts[fold.standing.server.model] += len(fold.names)

    def key(fold: Fold) -> tuple[object, ...]:
        off, exposed = count_off(fold)
        model = fold.standing.server.model
        return (-counts[model], model, off == 0, -exposed, -off, len(fold.names), fold.names[0])

    return sorted(listed, key=key)


def count_off(fold: Fold) -> tuple[int, int]:
    """How many components of each of its servers are off the baseline, and how many exposed."""
    verdicts = [drift.verdict for drift in fold.standing.drift]
    return sum(v in OFF_BASELINE for v in verdicts), verdicts.count(Verdict.EXPOSED)


def fold_row(fold: Fold) -> dict[str, Any]:
    """One fold as the API gives it."""
    standing, (off, exposed) = fold.standing, count_off(fold)
    return {
        "signature": signature_text(standing),
        "model": standing.server.model,
        "read": bool(standing.positions),
        "unread": standing.server.unread or "",
        "names": list(fold.names),
        "cells": glyph_row(standing),
        "resets": resets_text(standing.route),
        "outages": standing.route.outages,
        "off": off,
        "exposed": exposed,
        "components": len(standing.drift),
        "stranded": [f"{lost.slot}: {lost.reason}" for lost in standing.route.stranded],
    }


def totals(narrowed: Narrowed) -> dict[str, int]:
    """The sentence at the head: components, how many off and exposed, on how many servers."""
    sums = {"components": 0, "off": 0, "exposed": 0, "exposed_servers": 0, "off_servers": 0}
    for fold in narrowed.folds:
        off, exposed = count_off(fold)
        n = len(fold.names)
        sums["components"] += n * len(fold.standing.drift)
        sums["off"] += n * off
        sums["exposed"] += n * exposed
        sums["exposed_servers"] += n if exposed else 0
        sums["off_servers"] += n if off else 0
    return {**sums, "servers": sum(len(f.names) for f in narrowed.folds), "of": narrowed.servers}


def facets(house: Snapshot) -> dict[str, Any]:
    """What can be filtered by, with how many servers or components each has."""
    rooms = Counter(row.room for row in house.rows.values() if row.room)
    racks = Counter(f"{row.room} {row.rack}".strip() for row in house.rows.values() if row.rack)
    groups = Counter(group for group in house.groups.values() if group)
    products: Counter[tuple[str, str]] = Counter()
    verdicts: Counter[str] = Counter()
    for fold in house.folds:
        for position, drift in zip(fold.standing.positions, fold.standing.drift, strict=True):
            verdicts[drift.verdict.word] += len(fold.names)
            if position.product is not None:
                products[position.product.id, position.product.name] += len(fold.names)
    return {
        "rooms": _listed(rooms),
        "racks": _listed(racks),
        "groups": _listed(groups),
        "models": _listed(Counter(house.models)),
        "products": [{"value": p, "label": n, "count": c} for (p, n), c in sorted(products.items(), key=_by_label)],
        "verdicts": _listed(verdicts),
    }


def _by_label(item: tuple[tuple[str, str], int]) -> str:
    return item[0][1]


def _listed(counts: Mapping[str, int]) -> list[dict[str, Any]]:
    return [{"value": name, "label": name, "count": count} for name, count in sorted(counts.items())]
