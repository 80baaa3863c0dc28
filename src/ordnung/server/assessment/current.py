"""The house as the database knows it, judged against the catalogs at hand; kept up to date event by event.

A process builds it once; from then on a server that was read again costs one server (N3.5).
"""

from __future__ import annotations

import dataclasses
import threading
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import structlog
from django.db.models import Max, Min

from ordnung.core.assessment import Memory, Standing, assess_fleet, reassess
from ordnung.core.catalog import Issue
from ordnung.core.components import Server as ServerValue
from ordnung.core.components import controller_version, take_by_image
from ordnung.core.drift import OFF_BASELINE, Verdict
from ordnung.core.folds import Fold, fold_fleet
from ordnung.core.matching import Catalogs, Follows
from ordnung.core.merge import merge_host_report
from ordnung.core.waiting import show_waiting
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.documents import write_document
from ordnung.formats.errors import FormatError
from ordnung.formats.host_report import parse_host_report
from ordnung.formats.readings import build_server
from ordnung.server.audit.recording import UNDONE
from ordnung.server.baselines.current import Decided, decided, latest
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server, load_entries
from ordnung.server.work.models import Event

log = structlog.get_logger()
CONCERNED = ("readings", "catalogs", "baselines", "runs", "places")
KEPT_ROUTES = 5000
"""So many routes are remembered over changes of the baseline."""


@dataclass(frozen=True)
class Assessment:
    """Every server of the house with its standing, and the baseline it was judged by, as of one event."""

    rows: Mapping[str, Server]
    standings: Mapping[str, Standing]
    catalogs: Catalogs
    baseline: Decided
    event: int

    @cached_property
    def folds(self) -> tuple[Fold, ...]:
        """Equal servers folded into one."""
        return fold_fleet(self.standings.values())

    @cached_property
    def groups(self) -> dict[str, str | None]:
        """The group of every server."""
        return {name: standing.server.group for name, standing in self.standings.items()}

    @cached_property
    def models(self) -> dict[str, int]:
        """How many servers there are of each model that was read."""
        return dict(Counter(s.server.model for s in self.standings.values() if s.server.model))

    def chosen(self, names: list[str] | None) -> list[Standing]:
        """The standings of the named servers, or of all."""
        if names is None:
            return list(self.standings.values())
        asked = set(names)
        return [s for name, s in self.standings.items() if name in asked]

    @cached_property
    def counts(self) -> dict[str, tuple[int, int]]:
        """How many components of each server are off the baseline, and how many exposed. Equal states count once."""
        known: dict[int, tuple[int, int]] = {}
        found = {}
        for name, standing in self.standings.items():
            if id(standing.drift) not in known:
                verdicts = [drift.verdict for drift in standing.drift]
                known[id(standing.drift)] = (sum(v in OFF_BASELINE for v in verdicts), verdicts.count(Verdict.EXPOSED))
            found[name] = known[id(standing.drift)]
        return found

    @cached_property
    def tally(self) -> dict[str, int]:
        """The counts of the frame."""
        counts = self.counts.values()
        return {
            "components": sum(len(standing.drift) for standing in self.standings.values()),
            "off": sum(off for off, _ in counts),
            "exposed": sum(exposed for _, exposed in counts),
            "exposed_servers": sum(exposed > 0 for _, exposed in counts),
        }


@dataclass
class _Kept:
    """What a process remembers between two requests."""

    current_assessment: Assessment | None = None
    day: object = None
    memory: Memory = field(default_factory=Memory)
    issues: dict[tuple[int, str], Issue] = field(default_factory=dict)


_lock = threading.Lock()
_kept = _Kept()


def forget() -> None:
    """Drop what is remembered: it may come from rows that were rolled back, or of a database that is gone."""
    global _kept
    with _lock:
        _kept = _Kept()


UNDONE.append(forget)


def load_catalogs(follows: Follows | None = None) -> Catalogs:
    """All issues at hand, each parsed once a process; by default as the last revision follows them."""
    rows = CatalogIssue.objects.order_by("pk").values_list("pk", "signed_by")
    keys = [(pk, signer) for pk, signer in rows]
    for key in keys:
        if key not in _kept.issues:
            row = CatalogIssue.objects.get(pk=key[0])
            _kept.issues[key] = parse_catalog(bytes(row.raw), row.source, row.signed_by)
    chosen = decided(latest()).follows if follows is None else follows
    return Catalogs(tuple(_kept.issues[key] for key in keys), chosen)


def load_values(rows: list[Server]) -> list[ServerValue]:
    """Servers as the core knows them, host reports laid over their readings; unread without a reading."""
    entries = load_entries([row.latest for row in rows if row.latest is not None])
    values = []
    for row in rows:
        if row.latest is None:
            values.append(_unread(row, row.detail or "not read yet"))
            continue
        values.append(_load_value(row, entries[row.latest.pk]))
    return values


def _standing_in(row: Server) -> dict[str, Any]:
    """Where a server belongs, which no reading tells."""
    return {"group": row.group.name if row.group else None, "rack": row.rack or None, "room": row.room or None}


def _unread(row: Server, why: str) -> ServerValue:
    return dataclasses.replace(ServerValue(name=row.name, model="", unread=why), **_standing_in(row))


def _load_value(row: Server, entry: dict[str, Any]) -> ServerValue:
    """One server from what is stored; what can't be loaded shows as unread and takes no page down."""
    try:
        value = show_waiting(build_server({**entry, "name": row.name, **_standing_in(row)}), row.left_writes)
        if row.by_image_at and row.by_image_at == controller_version(value):
            value = take_by_image(value)
        if row.report is not None:
            value = merge_host_report(value, parse_host_report(write_document(row.report.body)))
    except (FormatError, KeyError, TypeError, ValueError, AttributeError) as error:
        log.exception("a stored reading can't be loaded", server=row.name)
        why = f"its stored reading can't be loaded ({type(error).__name__}); read it again"
        return _unread(row, why)
    return value


def current_assessment() -> Assessment:
    """The present state of the house."""
    with _lock:
        known, day = _kept.current_assessment, now().date()
        newest = Event.objects.filter(topic__in=CONCERNED).aggregate(last=Max("pk"))["last"] or 0
        if known is not None and known.event == newest and _kept.day == day:
            return known
        if known is None or _kept.day != day:
            _kept.memory = Memory()
            _kept.current_assessment = _build(None, None, newest)
        else:
            _kept.current_assessment = _follow(known, newest)
        _kept.day = day
        return _kept.current_assessment


def _follow(known: Assessment, newest: int) -> Assessment:
    """The current_assessment after the events since ``known``: as little as they ask for is worked out anew."""
    changes = _changed_since(known, newest)
    if changes is None:
        _kept.memory = Memory()
        return _build(None, None, newest)
    names, is_other_baseline = changes
    if is_other_baseline:
        known = _judge_again(known, newest)
    if names:
        return _build(known, names, newest)
    return dataclasses.replace(known, event=newest) if known.event != newest else known


def _changed_since(known: Assessment, newest: int) -> tuple[set[str], bool] | None:
    """The servers that events since then name, and whether the baseline is another; None for everything anew."""
    oldest = Event.objects.aggregate(first=Min("pk"))["first"] or 0
    if newest < known.event or oldest > known.event + 1:
        return None
    names: set[str] = set()
    other = False
    for topic, body in Event.objects.filter(pk__gt=known.event, topic__in=CONCERNED).values_list("topic", "body"):
        if topic == "readings" and "servers" not in body:
            return None
        other = other or topic in ("catalogs", "baselines")
        if topic == "readings":
            names |= set(body["servers"])
    return names, other


def _judge_again(known: Assessment, event: int) -> Assessment:
    """The same readings under the catalogs and the revision of now."""
    routes = _kept.memory.routes if len(_kept.memory.routes) < KEPT_ROUTES else {}
    _kept.memory = Memory(routes=routes)
    baseline = decided(latest())
    catalogs = load_catalogs(baseline.follows)
    standings = reassess(
        list(known.standings.values()), catalogs, baseline.rules, now().date(), _kept.memory
    )  # fmt: skip
    return Assessment(known.rows, {s.server.name: s for s in standings}, catalogs, baseline, event)


def _build(known: Assessment | None, names: set[str] | None, event: int) -> Assessment:
    baseline = known.baseline if known is not None else decided(latest())
    catalogs = known.catalogs if known is not None else load_catalogs(baseline.follows)
    query = Server.objects.select_related("latest", "group", "report").order_by("name")
    if names is not None:
        query = query.filter(name__in=names)
    fresh = list(query)
    values = load_values(fresh)
    standings = assess_fleet(values, catalogs, baseline.rules, now().date(), _kept.memory)
    judged = {s.server.name: s for s in standings}
    rows = {row.name: row for row in fresh}
    if known is not None and names is not None:
        rows = {**{n: r for n, r in known.rows.items() if n not in names}, **rows}
        judged = {**{n: s for n, s in known.standings.items() if n not in names}, **judged}
    ordered = sorted(rows)
    return Assessment({n: rows[n] for n in ordered}, {n: judged[n] for n in ordered}, catalogs, baseline, event)
