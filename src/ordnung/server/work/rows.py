"""Work under way as the API gives it."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Any, Literal

from ordnung.server.shapes import anything, one_of, row_from
from ordnung.server.work.models import KINDS, Work


@dataclass(frozen=True, slots=True, kw_only=True)
class FailureRow:
    server: str
    cause: str
    detail: str
    remedy: str


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkRow:
    id: int
    kind: str = one_of(list(KINDS))
    title: str
    state: Literal["asked", "running", "done", "failed"]
    total: int
    done: int
    unit: str
    note: str
    subject: Any = anything()
    failures: list[FailureRow]
    asked_at: datetime.datetime
    started_at: datetime.datetime | None
    ended_at: datetime.datetime | None
    seen: bool


def work_row(work: Work) -> WorkRow:
    """One piece of work."""
    return row_from(WorkRow, work)
