"""Drift folded: equal servers in one row, the odd ones first, narrowed by what the person looks for."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from ordnung.core.advisories import assess
from ordnung.core.baseline import Position
from ordnung.core.drift import OFF_BASELINE, Drift, Verdict
from ordnung.core.folds import Fold
from ordnung.server.advisories.store import find_advisory
from ordnung.server.assessment.current import Assessment
from ordnung.server.assessment.present import CellRow, glyph_row, resets_text, signature_text
from ordnung.server.fleet.selections import chosen_names

SERVER_KEYS = ("room", "rack", "group", "model")
PART_KEYS = ("product", "kind", "verdict", "importance", "on", "score")
IMPORTANCE_RANK = {"routine": 0, "stability": 1, "security": 2}


@dataclass(frozen=True, slots=True, kw_only=True)
class FoldRow:
    signature: str
    model: str
    read: bool
    unread: str
    names: list[str]
    cells: list[CellRow]
    resets: str
    outages: int
    off: int
    exposed: int
    components: int
    stranded: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class ChoiceRow:
    value: str
    label: str
    count: int


@dataclass(frozen=True, slots=True, kw_only=True)
class FacetsRow:
    rooms: list[ChoiceRow]
    racks: list[ChoiceRow]
    groups: list[ChoiceRow]
    models: list[ChoiceRow]
    products: list[ChoiceRow]
    verdicts: list[ChoiceRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class TotalsRow:
    components: int
    off: int
    exposed: int
    exposed_servers: int
    off_servers: int
    servers: int
    of: int


@dataclass(frozen=True, slots=True)
class Narrowed:
    """What the person looks at: folds with the names that are left of them."""

    folds: tuple[Fold, ...]
    servers: int
    """Servers in the chosen rooms, racks, groups and models, before components are looked at."""


def narrow(assessment: Assessment, asked: Mapping[str, str]) -> Narrowed:
    """The folds that meet the filters. Component filters hold together for one component."""
    keep = _server_filter(assessment, asked)
    part_filter = _part_filter(asked)
    found, servers = [], 0
    for fold in assessment.folds:
        names = tuple(name for name in fold.names if keep(name))
        servers += len(names)
        pairs = zip(fold.standing.positions, fold.standing.drift, strict=True)
        if names and (part_filter is None or any(part_filter(p, d) for p, d in pairs)):
            found.append(Fold(fold.standing, names))
    return Narrowed(tuple(found), servers)


def _server_filter(assessment: Assessment, asked: Mapping[str, str]) -> Callable[[str], bool]:
    tests: list[Callable[[str], bool]] = []
    tests += [_is(assessment, key, set(asked[key].split("|"))) for key in SERVER_KEYS if asked.get(key)]
    if names := asked.get("servers"):
        chosen = chosen_names(names)
        tests.append(lambda name: name in chosen)
    if advisory := asked.get("advisory"):
        hit = set(assess(find_advisory(advisory), assessment.folds, assessment.catalogs).affected)
        tests.append(lambda name: name in hit)
    return lambda name: all(test(name) for test in tests)


def _is(assessment: Assessment, key: str, values: set[str]) -> Callable[[str], bool]:
    if key == "model":
        return lambda name: assessment.standings[name].server.model in values
    if key == "group":
        return lambda name: (assessment.groups[name] or "") in values
    if key == "room":
        return lambda name: assessment.rows[name].room in values
    return lambda name: (
        f"{assessment.rows[name].room} {assessment.rows[name].rack}" in values or assessment.rows[name].rack in values
    )


def _part_filter(asked: Mapping[str, str]) -> Callable[[Position, Drift], bool] | None:
    asked_values = {key: set(asked[key].split("|")) for key in PART_KEYS if asked.get(key) and key != "score"}
    score = _number(asked.get("score"))
    if asked.get("only") == "drift":
        asked_values.setdefault("verdict", {v.word for v in OFF_BASELINE})
    if not asked_values and score is None:
        return None

    def matches(position: Position, drift: Drift) -> bool:
        facts = {
            "product": drift.product, "kind": position.component.kind, "verdict": drift.verdict.word,
            "importance": drift.missed_importance, "on": drift.installed,
        }  # fmt: skip
        if (
            "product" in asked_values
            and "on" in asked_values
            and position.product is not None
            and facts["product"] in asked_values["product"]
        ):
            # A version of the release line means the release: equal by the product's scheme (V11).
            keys = {position.product.key(v) for v in asked_values["on"]}
            key = position.product.key(drift.installed or "")
            facts["on"] = next(iter(asked_values["on"])) if key is not None and key in keys else facts["on"]
        return all(facts[key] in values for key, values in asked_values.items()) and (
            score is None or (drift.score is not None and drift.score >= score and drift.verdict is Verdict.EXPOSED)
        )

    return matches


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


def fold_row(fold: Fold) -> FoldRow:
    """One fold as the API gives it."""
    standing, (off, exposed) = fold.standing, count_off(fold)
    return FoldRow(
        signature=signature_text(standing),
        model=standing.server.model,
        read=bool(standing.positions),
        unread=standing.server.unread or "",
        names=list(fold.names),
        cells=glyph_row(standing),
        resets=resets_text(standing.route),
        outages=standing.route.outages,
        off=off,
        exposed=exposed,
        components=len(standing.drift),
        stranded=[f"{lost.slot}: {lost.reason}" for lost in standing.route.stranded],
    )


def totals(narrowed: Narrowed) -> TotalsRow:
    """The sentence at the head: components, how many off and exposed, on how many servers."""
    counted = [(len(fold.names), len(fold.standing.drift), *count_off(fold)) for fold in narrowed.folds]
    return TotalsRow(
        components=sum(n * components for n, components, _, _ in counted),
        off=sum(n * off for n, _, off, _ in counted),
        exposed=sum(n * exposed for n, _, _, exposed in counted),
        exposed_servers=sum(n for n, _, _, exposed in counted if exposed),
        off_servers=sum(n for n, _, off, _ in counted if off),
        servers=sum(n for n, _, _, _ in counted),
        of=narrowed.servers,
    )


def facets(assessment: Assessment) -> FacetsRow:
    """What can be filtered by, with how many servers or components each has."""
    rooms = Counter(row.room for row in assessment.rows.values() if row.room)
    racks = Counter(f"{row.room} {row.rack}".strip() for row in assessment.rows.values() if row.rack)
    groups = Counter(group for group in assessment.groups.values() if group)
    products: Counter[tuple[str, str]] = Counter()
    verdicts: Counter[str] = Counter()
    for fold in assessment.folds:
        for position, drift in zip(fold.standing.positions, fold.standing.drift, strict=True):
            verdicts[drift.verdict.word] += len(fold.names)
            if position.product is not None:
                products[position.product.id, position.product.name] += len(fold.names)
    return FacetsRow(
        rooms=_listed(rooms),
        racks=_listed(racks),
        groups=_listed(groups),
        models=_listed(Counter(assessment.models)),
        products=[ChoiceRow(value=p, label=n, count=c) for (p, n), c in sorted(products.items(), key=_by_label)],
        verdicts=_listed(verdicts),
    )


def _by_label(item: tuple[tuple[str, str], int]) -> str:
    return item[0][1]


def _listed(counts: Mapping[str, int]) -> list[ChoiceRow]:
    return [ChoiceRow(value=name, label=name, count=count) for name, count in sorted(counts.items())]
