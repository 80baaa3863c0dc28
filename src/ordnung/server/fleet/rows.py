"""Servers as the API gives them."""

from __future__ import annotations

from ordnung.controllers import CAUSES
from ordnung.server.fleet.models import Server
from ordnung.server.work.rows import FailureRow


def failure_row(row: Server) -> FailureRow | None:
    """Why the last look failed, if it did."""
    if row.cause is None:
        return None
    return FailureRow(server=row.name, cause=row.cause, detail=row.detail, remedy=CAUSES.get(row.cause, ""))
