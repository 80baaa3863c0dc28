"""The fleet over months: how soon what was known to be unsafe was closed, and what failed how often. Pure."""

from __future__ import annotations

import datetime
import statistics
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

from ordnung.core.catalog import Product


@dataclass(frozen=True, slots=True, kw_only=True)
class Written:
    """A write that is over: on a server of a model, which release, when, and whether it failed."""

    server: str
    model: str
    product: str
    version: str
    at: datetime.datetime
    failed: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Closed:
    """An advisory and how many days after its release servers were brought to one that closes it."""

    advisory: str
    servers: int
    median_days: float
    longest_days: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Failures:
    """How often a release was written on a model, and how often that failed."""

    model: str
    product: str
    version: str
    writes: int
    failed: int


def closed_after(writes: Iterable[Written], products: dict[str, Product]) -> tuple[Closed, ...]:
    """For each advisory, from the day of the first release that closes it to the first write of such a one, server by
    server; the most recent advisories first. What was written before that day, or failed, closes nothing.
    """
    closing, since = _closing(products)
    first: dict[tuple[str, str], float] = {}
    for write in writes:
        if write.failed:
            continue
        for advisory in closing.get((write.product, write.version), ()):
            took = float((write.at.date() - since[advisory]).days)
            if took >= 0:
                first[advisory, write.server] = min(first.get((advisory, write.server), took), took)
    found: dict[str, list[float]] = defaultdict(list)
    for (advisory, _), days in first.items():
        found[advisory].append(days)
    rows = [
        Closed(advisory=a, servers=len(days), median_days=statistics.median(days), longest_days=max(days))
        for a, days in found.items()
    ]
    return tuple(sorted(rows, key=lambda row: (-since[row.advisory].toordinal(), row.advisory)))


def _closing(products: dict[str, Product]) -> tuple[dict[tuple[str, str], set[str]], dict[str, datetime.date]]:
    """By product and version, the advisories that it and all before it close; and since when each can be closed."""
    closing: dict[tuple[str, str], set[str]] = {}
    since: dict[str, datetime.date] = {}
    for product in products.values():
        closed: set[str] = set()
        for release in product.ordered:
            closed = closed | {fix.id for fix in release.fixes}
            closing[product.id, release.version] = closed
            for fix in release.fixes:
                if release.released is not None:
                    since[fix.id] = min(since.get(fix.id, release.released), release.released)
    dated = set(since)
    return {pair: advisories & dated for pair, advisories in closing.items()}, since


def count_failures(writes: Iterable[Written]) -> tuple[Failures, ...]:
    """Every release on every model that failed at least once, what fails most often first."""
    counts: dict[tuple[str, str, str], list[int]] = defaultdict(lambda: [0, 0])
    for write in writes:
        count = counts[write.model, write.product, write.version]
        count[0] += 1
        count[1] += write.failed
    rows = [
        Failures(model=model, product=product, version=version, writes=n, failed=failed)
        for (model, product, version), (n, failed) in counts.items()
        if failed
    ]
    return tuple(sorted(rows, key=lambda row: (-row.failed / row.writes, -row.failed, row.model, row.product)))
