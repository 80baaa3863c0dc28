"""Commands in: what people ask the engine to do."""

from __future__ import annotations

from typing import Any

from ordnung.server.clock import now
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work


def ask_for(kind: str, title: str, total: int, unit: str, subject: dict[str, Any]) -> Work:
    """Put work before the engine."""
    work = Work.objects.create(kind=kind, title=title, total=total, unit=unit, subject=subject, asked_at=now())
    tell("work", id=work.pk)
    return work
