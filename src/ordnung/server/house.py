"""The house as the database knows it, judged against the catalogs at hand; kept up to date event by event.

A process builds it once; from then on a server that was read again costs one server (N3.5).
"""

from __future__ import annotations

import dataclasses
import threading
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

from django.db.models import Max, Min

from ordnung.core.catalog import Catalogs, Issue
from ordnung.core.components import Server as ServerValue
from ordnung.core.drift import OFF_BASELINE, Verdict
from ordnung.core.house import Memory, Standing, judge_house
from ordnung.core.merge import merge_host_report
from ordnung.core.rules import FIXED_RULES
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.documents import write_document
from ordnung.formats.host_report import parse_host_report
from ordnung.formats.readings import build_server
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server, load_entries
from ordnung.server.work.models import Event

CONCERNED = ("readings", "catalogs", "runs")


@dataclass(frozen=True)
class Snapshot:
    """Every server of the house with its standing, and the catalogs it was judged by, as of one event."""

    rows: Mapping[str, Server]
    standings: Mapping[str, Standing]
    catalogs: Catalogs
    event: int

    def chosen(self, names: list[str] | None) -> list[Standing]:
        """The standings of the named servers, or of all."""
        if names is None:
            return list(self.standings.values())
        wanted = set(names)
        return [s for name, s in self.standings.items() if name in wanted]

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

    snapshot: Snapshot | None = None
    day: object = None
    memory: Memory = field(default_factory=Memory)
    issues: dict[int, Issue] = field(default_factory=dict)


_lock = threading.Lock()
_kept = _Kept()


def forget() -> None:
    """Drop what is remembered: for tests, whose databases come and go under one process."""
    global _kept
    with _lock:
        _kept = _Kept()


def load_catalogs() -> Catalogs:
    """All issues at hand; each is parsed once a process."""
    keys = list(CatalogIssue.objects.values_list("pk", flat=True))
    for key in keys:
        if key not in _kept.issues:
            row = CatalogIssue.objects.get(pk=key)
            _kept.issues[key] = parse_catalog(bytes(row.raw), row.source)
    return Catalogs(tuple(_kept.issues[key] for key in sorted(keys)))


def load_values(rows: list[Server]) -> list[ServerValue]:
    """Servers as the core knows them, host reports laid over their readings; unread without a reading."""
    entries = load_entries([row.latest for row in rows if row.latest is not None])
    values = []
    for row in rows:
        group = row.group.name if row.group else None
        if row.latest is None:
            values.append(ServerValue(name=row.name, model="", group=group, unread=row.detail or "not read yet"))
            continue
        value = build_server({**entries[row.latest.pk], "name": row.name, "group": group})
        if row.report is not None:
            value = merge_host_report(value, parse_host_report(write_document(row.report.body)))
        values.append(value)
    return values


def snapshot() -> Snapshot:
    """The present state of the house."""
    with _lock:
        known, day = _kept.snapshot, now().date()
        newest = Event.objects.filter(topic__in=CONCERNED).aggregate(last=Max("pk"))["last"] or 0
        if known is not None and known.event == newest and _kept.day == day:
            return known
        changed = _changed_since(known, newest) if known is not None and _kept.day == day else None
        if known is None or changed is None:
            _kept.memory = Memory()
            _kept.snapshot = _build(None, None, load_catalogs(), newest)
        elif changed:
            _kept.snapshot = _build(known, changed, known.catalogs, newest)
        else:
            _kept.snapshot = dataclasses.replace(known, event=newest)
        _kept.day = day
        return _kept.snapshot


def _changed_since(known: Snapshot, newest: int) -> set[str] | None:
    """The servers that events since then name; None when everything has to be built anew."""
    oldest = Event.objects.aggregate(first=Min("pk"))["first"] or 0
    if newest < known.event or oldest > known.event + 1:
        return None
    names: set[str] = set()
    for topic, body in Event.objects.filter(pk__gt=known.event, topic__in=CONCERNED).values_list("topic", "body"):
        if topic == "catalogs" or (topic == "readings" and "servers" not in body):
            return None
        if topic == "readings":
            names |= set(body["servers"])
    return names


def _build(known: Snapshot | None, names: set[str] | None, catalogs: Catalogs, event: int) -> Snapshot:
    query = Server.objects.select_related("latest", "group", "report").order_by("name")
    if names is not None:
        query = query.filter(name__in=names)
    fresh = list(query)
    values = load_values(fresh)
    standings = judge_house(values, catalogs, FIXED_RULES, now().date(), _kept.memory)
    judged = {s.server.name: s for s in standings}
    rows = {row.name: row for row in fresh}
    if known is not None and names is not None:
        rows = {**{n: r for n, r in known.rows.items() if n not in names}, **rows}
        judged = {**{n: s for n, s in known.standings.items() if n not in names}, **judged}
    ordered = sorted(rows)
    return Snapshot({n: rows[n] for n in ordered}, {n: judged[n] for n in ordered}, catalogs, event)
