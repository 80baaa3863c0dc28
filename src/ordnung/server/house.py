"""The house as the database knows it, judged against the catalogs at hand; remembered until something changes."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from dataclasses import dataclass

from django.db.models import Max

from ordnung.core.catalog import Catalogs, Issue
from ordnung.core.components import Server as ServerValue
from ordnung.core.house import Standing, judge_house
from ordnung.core.rules import FIXED_RULES
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.readings import build_server
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.clock import now
from ordnung.server.fleet.models import Reading, Server


@dataclass(frozen=True)
class Snapshot:
    """Every server of the house with its standing, and the catalogs it was judged by."""

    servers: tuple[Server, ...]
    standings: Mapping[str, Standing]
    catalogs: Catalogs

    def chosen(self, names: list[str] | None) -> list[Standing]:
        """The standings of the named servers, or of all."""
        return [s for name, s in self.standings.items() if names is None or name in names]


_lock = threading.Lock()
_issues: dict[int, Issue] = {}
_last: tuple[tuple[object, ...], dict[str, Standing], Catalogs] | None = None


def forget() -> None:
    """Drop what is remembered: for tests, whose databases come and go under one process."""
    global _last
    with _lock:
        _last = None
        _issues.clear()


def load_catalogs() -> Catalogs:
    """All issues at hand; each is parsed once a process."""
    keys = list(CatalogIssue.objects.values_list("pk", flat=True))
    for key in keys:
        if key not in _issues:
            row = CatalogIssue.objects.get(pk=key)
            _issues[key] = parse_catalog(bytes(row.raw), row.source)
    return Catalogs(tuple(_issues[key] for key in sorted(keys)))


def value_of(row: Server, reading: Reading | None) -> ServerValue:
    """A server as the core knows it; without a reading it is unread."""
    group = row.group.name if row.group else None
    if reading is None:
        return ServerValue(name=row.name, model="", group=group, unread=row.detail or "not read yet")
    return build_server({**reading.body, "name": row.name, "group": group})


def snapshot() -> Snapshot:
    """The present state of the house."""
    global _last
    rows = tuple(Server.objects.select_related("latest", "group").order_by("name"))
    newest = CatalogIssue.objects.aggregate(last=Max("pk"))["last"]
    day = now().date()
    key = (tuple((r.pk, r.latest_id, r.group_id) for r in rows), newest, day)
    with _lock:
        if _last is None or _last[0] != key:
            catalogs = load_catalogs()
            values = [value_of(row, row.latest) for row in rows]
            standings = judge_house(values, catalogs, FIXED_RULES, day)
            _last = (key, {s.server.name: s for s in standings}, catalogs)
        return Snapshot(rows, _last[1], _last[2])
