"""Which issues cover the models this house really owns, and what no catalog lists (N2.2)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.catalog import Issue
from ordnung.core.folds import Fold
from ordnung.core.matching import Catalogs


@dataclass(frozen=True, slots=True, kw_only=True)
class Coverage:
    """One model of this house against one catalog. ``model`` is empty for a list that names no models.

    ``covered`` are the issues that cover it, oldest first; ``dropped_after`` is the last of them when
    a newer issue of the catalog leaves the model out.
    """

    model: str
    servers: int
    maker: str
    catalog: str
    covered: tuple[str, ...]
    followed: str | None
    chosen: bool
    dropped_after: str | None

    @property
    def newest(self) -> str | None:
        """The last issue that covers the model."""
        return self.covered[-1] if self.covered else None


def tell_coverage(models: dict[str, int], catalogs: Catalogs) -> tuple[Coverage, ...]:
    """A line per model and catalog that names it, models without any catalog, then lists for every model.

    Args:
        models: how many servers of each model there are.
    """
    by_catalog: dict[tuple[str, str], list[Issue]] = {}
    for issue in sorted(catalogs.issues, key=lambda i: (i.issued, i.issue)):
        by_catalog.setdefault((issue.maker, issue.catalog), []).append(issue)
    lines = []
    for model in sorted(models):
        mine = [
            _line(model, models[model], issues, catalogs) for issues in by_catalog.values() if _names_models(issues)
        ]
        lines += [line for line in mine if line.covered] or [_bare(model, models[model])]
    count = sum(models.values())
    lines += [_line("", count, issues, catalogs) for issues in by_catalog.values() if not _names_models(issues)]
    return tuple(lines)


def _names_models(issues: Sequence[Issue]) -> bool:
    return any(issue.models for issue in issues)


def _line(model: str, servers: int, issues: Sequence[Issue], catalogs: Catalogs) -> Coverage:
    covering = [issue for issue in issues if issue.covers(model)]
    name = (issues[0].maker, issues[0].catalog)
    followed = next((i for i in catalogs.for_model(model) if (i.maker, i.catalog) == name), None)
    dropped = covering and not issues[-1].covers(model)
    return Coverage(
        model=model,
        servers=servers,
        maker=name[0],
        catalog=name[1],
        covered=tuple(issue.issue for issue in covering),
        followed=followed.issue if followed else None,
        chosen=bool(followed and catalogs.chosen(model, followed) == followed.issue),
        dropped_after=covering[-1].issue if dropped else None,
    )


def _bare(model: str, servers: int) -> Coverage:
    return Coverage(
        model=model, servers=servers, maker="", catalog="", covered=(), followed=None, chosen=False, dropped_after=None
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Unlisted:
    """One kind of component that is fitted here and that no catalog lists, with the reason."""

    name: str
    kind: str
    software_id: str | None
    model: str
    reason: str
    components: int
    servers: tuple[str, ...]


def list_unlisted(folds: Sequence[Fold]) -> tuple[Unlisted, ...]:
    """What is fitted here and has no product, the most common first."""
    found: dict[tuple[str, str, str | None, str, str], tuple[int, set[str]]] = {}
    for fold in folds:
        for position in fold.standing.positions:
            if position.product is None:
                c = position.component
                key = (c.name, c.kind, c.software_id, fold.standing.server.model, position.match.reason)
                count, names = found.get(key, (0, set()))
                found[key] = (count + len(fold.names), names | set(fold.names))
    lines = [
        Unlisted(
            name=name, kind=kind, software_id=software, model=model, reason=reason, components=count,
            servers=tuple(sorted(names)),
        )
        for (name, kind, software, model, reason), (count, names) in found.items()
    ]  # fmt: skip
    return tuple(sorted(lines, key=lambda line: (-line.components, line.name, line.model)))
