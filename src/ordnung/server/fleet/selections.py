"""Selections of many servers, kept by a short name: an address that says all their names would be too long."""

from __future__ import annotations

import datetime
from collections.abc import Collection

from ordnung.server.clock import now
from ordnung.server.fleet.models import Selection
from ordnung.server.problems import Problem

MARK = "@"
"""What a short name begins with in an address; no name of a server does."""
KEPT_FOR = datetime.timedelta(days=180)
MOST_KEPT = 1000
A_DAY = datetime.timedelta(days=1)
GONE = "This selection is not kept here any more. Choose the servers again."
TAKEN = "Another selection has this name already."


def keep_selection(name: str, servers: list[str]) -> None:
    """Keep a selection; keeping the same again changes nothing.

    Those that nobody used for half a year are forgotten, and of more than ``MOST_KEPT`` those unused the longest.

    Raises:
        Problem: other servers are kept by this name.
    """
    Selection.objects.forget(before=now() - KEPT_FOR, beyond=MOST_KEPT - 1)
    row, is_new = Selection.objects.get_or_create(name=name, defaults={"servers": servers, "used_at": now()})
    if not is_new and row.servers != servers:
        raise Problem("name-taken", TAKEN, status=409, field="name")


def find_selection(name: str) -> list[str]:
    """The servers of a selection, in the order in which they were chosen. Raises Problem when none is kept by it."""
    row = Selection.objects.filter(name=name).first()
    if row is None:
        raise Problem("unknown-selection", GONE, status=404, field="servers")
    if now() - row.used_at > A_DAY:
        Selection.objects.filter(pk=row.pk).update(used_at=now())
    return list(row.servers)


def chosen_names(asked: str) -> Collection[str]:
    """The servers that an address asks for: names between commas, or ``@`` and the short name of a selection.

    Raises:
        Problem: no selection is kept by that name.
    """
    if asked.startswith(MARK):
        return frozenset(find_selection(asked.removeprefix(MARK)))
    return frozenset(name for name in asked.split(",") if name)
