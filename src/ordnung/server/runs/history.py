"""How long things really took: kept when a server's part in a run ended, and given to forecasts (N8.3, F1)."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Iterable
from dataclasses import asdict

from ordnung.core.night.costs import FAILED_WRITES
from ordnung.core.night.durations import History
from ordnung.engine.entries import Entry, Read
from ordnung.engine.lasted import lasted
from ordnung.server.clock import now
from ordnung.server.runs.models import KeptDuration

COUNTED = datetime.timedelta(days=366)
"""What took place longer ago counts no more: hardware ages, and so do its releases."""
ENOUGH = 1000
"""Writes on record from which on their failures are counted: of one in 200, five are to be expected among them."""


def keep_durations(run: int, server: str, tape: Iterable[Entry]) -> None:
    """Keep what a tape tells of durations; keeping it twice changes nothing."""
    entries = list(tape)
    model = next((e.value.server.model for e in entries if isinstance(e.value, Read)), "")
    moments = {entry.seq: entry.at for entry in entries}
    rows = [
        KeptDuration(run_id=run, server=server, model=model, at=moments[found.seq], **asdict(found))
        for found in lasted(entries)
        if found.seconds > 0 or found.failed
    ]
    KeptDuration.objects.bulk_create(rows, ignore_conflicts=True)


def failures_of(models: Iterable[str]) -> dict[tuple[str, str, str], int]:
    """How often a write failed, by model, product and version."""
    rows = KeptDuration.objects.filter(model__in=set(models), at__gte=now() - COUNTED, failed=True)
    return dict(Counter(rows.values_list("model", "product", "version")))


def failure_rate() -> float:
    """The share of writes that failed, from the record; the usual share where it holds too few to tell (F7)."""
    writes = KeptDuration.objects.filter(kind="writing", at__gte=now() - COUNTED)
    count = writes.count()
    return writes.filter(failed=True).count() / count if count >= ENOUGH else FAILED_WRITES


def load_history(models: Iterable[str]) -> History:
    """What is kept of servers of some models."""
    writes: dict[tuple[str, str, str], list[float]] = {}
    resets: dict[tuple[str, str], list[float]] = {}
    rows = KeptDuration.objects.filter(model__in=set(models), at__gte=now() - COUNTED, failed=False)
    for model, kind, product, version, seconds in rows.values_list("model", "kind", "product", "version", "seconds"):
        if kind == "writing":
            writes.setdefault((model, product, version), []).append(seconds)
        else:
            resets.setdefault((model, kind), []).append(seconds)
    return History(writes=writes, resets=resets)
