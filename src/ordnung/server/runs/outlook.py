"""The forecast of a run under way, worked out once for all who look at it.

It slides as the run goes on and costs a second with a thousand servers: whoever asks is given the last one at once,
and if that is some seconds old, the next is worked out meanwhile. After an order it is worked out before it is given.
"""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass

import structlog
from django.db import connection
from django.db.models import Q

from ordnung.server.audit.recording import UNDONE
from ordnung.server.compression import Packed, pack
from ordnung.server.reckoning import reckon
from ordnung.server.runs.models import Run
from ordnung.server.runs.night import forecast_row
from ordnung.server.shapes import write_json
from ordnung.server.work.models import Event

log = structlog.get_logger()
FRESH_S = 10.0
"""Real seconds for which a forecast is as good as new."""
OLDEST_S = 60.0
"""One that nobody has asked for during so long is not given any more."""


@dataclass(frozen=True, slots=True)
class _Kept:
    told: Packed
    """As it is sent: tens of kilobytes that are spelled and compressed once for all."""
    since: int
    """The last event that moved it, when it was worked out."""
    made: float


WANTED_S = 150.0
"""Real seconds for which who has asked for one is given the next ones by themselves."""

_lock = threading.Lock()
_asked: dict[int, float] = {}
_kept: dict[int, _Kept] = {}
_locks: dict[int, threading.Lock] = {}


def outlook(run: Run) -> Packed:
    """When a run will probably be over, as JSON (``ForecastRow``); of one under way as it was some seconds ago."""
    if run.state != Run.State.RUNNING:
        return pack(write_json(forecast_row(run)))
    _asked[run.pk] = time.monotonic()
    return _present(run)


def wanted() -> list[tuple[int, bytes]]:
    """The forecasts of the runs under way for which somebody has asked lately, as they are by now."""
    oldest = time.monotonic() - WANTED_S
    for pk in [pk for pk, at in _asked.items() if at < oldest]:
        del _asked[pk]
    runs = Run.objects.filter(pk__in=list(_asked), state=Run.State.RUNNING)
    return [(run.pk, _present(run).plain) for run in runs]


def _present(run: Run) -> Packed:
    known, since = _kept.get(run.pk), _last_move(run)
    age = time.monotonic() - known.made if known is not None else OLDEST_S
    if known is None or known.since != since or age >= OLDEST_S:
        with _lock_of(run):
            again = _kept.get(run.pk)
            return again.told if again is not None and again is not known else _work_out(run, since)
    if age >= FRESH_S and _lock_of(run).acquire(blocking=False):
        threading.Thread(target=_work_out_meanwhile, args=(run, since), name=f"forecast of run {run.pk}").start()
    return known.told


def _work_out(run: Run, since: int) -> Packed:
    told = pack(reckon(_of, run.pk))
    _kept[run.pk] = _Kept(told, since, time.monotonic())
    return told


def _of(pk: int) -> bytes:
    return write_json(forecast_row(Run.objects.get(pk=pk)))


def _work_out_meanwhile(run: Run, since: int) -> None:
    """With the run's lock, which it gives back."""
    try:
        _work_out(run, since)
    except Exception:
        log.exception("a forecast failed; the last one is shown", run=run.pk)
    finally:
        connection.close()
        _lock_of(run).release()


def _lock_of(run: Run) -> threading.Lock:
    with _lock:
        return _locks.setdefault(run.pk, threading.Lock())


def _last_move(run: Run) -> int:
    """The last event after which a forecast is no longer the same: an order to it, a limit of all, the house."""
    its = Q(topic="runs") & (Q(body__id=run.pk) | Q(body__id__isnull=True))
    last = Event.objects.filter(Q(topic="house") | its).order_by("-pk").values_list("pk", flat=True).first()
    return last or 0


def forget() -> None:
    """Drop what is kept: it may come from rows that were rolled back, or of a database that is gone."""
    _kept.clear()
    _asked.clear()


UNDONE.append(forget)
