"""The fleet over months: a day of each model is kept daily; what was closed and what failed follows from the record."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import dataclass

from ordnung.core.months import Closed, Failures, Written, closed_after, count_failures
from ordnung.server.assessment.current import Assessment, current_assessment
from ordnung.server.clock import now
from ordnung.server.runs.models import DriftDay, KeptDuration

SHOWN = datetime.timedelta(days=366)


@dataclass(frozen=True, slots=True, kw_only=True)
class DayRow:
    """One day of a model: how many servers it had, of how many something was off, and how many were exposed."""

    day: datetime.date
    servers: int
    off: int
    exposed: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ModelMonthsRow:
    model: str
    days: list[DayRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class ClosedRow(Closed):
    """``open``: servers that are exposed to it now."""

    open: int


@dataclass(frozen=True, slots=True, kw_only=True)
class FailuresRow(Failures):
    """``name`` of the product, as its maker sells it."""

    name: str


@dataclass(frozen=True, slots=True, kw_only=True)
class MonthsRow:
    models: list[ModelMonthsRow]
    closed: list[ClosedRow]
    failures: list[FailuresRow]


def note_day() -> None:
    """Keep how each model stands today, once a day."""
    today = now().date()
    if not DriftDay.objects.filter(day=today).exists():
        DriftDay.objects.bulk_create(
            [
                DriftDay(day=today, model=model, servers=row.servers, off=row.off, exposed=row.exposed)
                for model, row in _today(current_assessment()).items()
            ],
            ignore_conflicts=True,
        )


def _today(assessment: Assessment) -> Mapping[str, DayRow]:
    """How each model stands now, of those that were read."""
    counted: dict[str, list[int]] = {}
    for name, standing in assessment.standings.items():
        if standing.server.read_at is None or not standing.server.model:
            continue
        off, exposed = assessment.counts[name]
        count = counted.setdefault(standing.server.model, [0, 0, 0])
        for place, more in enumerate((1, off > 0, exposed > 0)):
            count[place] += more
    day = now().date()
    return {m: DayRow(day=day, servers=n, off=off, exposed=bare) for m, (n, off, bare) in counted.items()}


def months_row() -> MonthsRow:
    """The last year: each model's days with how it stands now, how soon advisories were closed, what failed."""
    assessment = current_assessment()
    products = assessment.catalogs.by_id
    writes = [
        Written(server=server, model=model, product=product, version=version, at=at, failed=failed)
        for server, model, product, version, at, failed in KeptDuration.objects.filter(
            kind="writing", at__gte=now() - SHOWN
        ).values_list("server", "model", "product", "version", "at", "failed")
    ]
    exposed: dict[str, set[str]] = {}
    for name, standing in assessment.standings.items():
        for drift in standing.drift:
            for fix in drift.fixes:
                exposed.setdefault(fix, set()).add(name)
    return MonthsRow(
        models=_models(assessment),
        closed=[
            ClosedRow(
                advisory=row.advisory, servers=row.servers, median_days=row.median_days,
                longest_days=row.longest_days, open=len(exposed.get(row.advisory, ())),
            )
            for row in closed_after([w for w in writes if w.server != ELSEWHERE], products)
        ],
        failures=[
            FailuresRow(
                model=row.model, product=row.product, version=row.version, writes=row.writes, failed=row.failed,
                name=products[row.product].name if row.product in products else row.product,
            )
            for row in count_failures(writes)
        ],
    )  # fmt: skip


ELSEWHERE = "an earlier run"
"""Of durations that were brought in it is not known which server they are of."""


def _models(assessment: Assessment) -> list[ModelMonthsRow]:
    today = now().date()
    kept: dict[str, list[DayRow]] = {}
    for row in DriftDay.objects.filter(day__gte=today - SHOWN, day__lt=today).order_by("model", "day"):
        day = DayRow(day=row.day, servers=row.servers, off=row.off, exposed=row.exposed)
        kept.setdefault(row.model, []).append(day)
    for model, day in _today(assessment).items():
        kept.setdefault(model, []).append(day)
    return [ModelMonthsRow(model=model, days=days) for model, days in sorted(kept.items())]
