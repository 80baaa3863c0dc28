"""How far a work is: stored, and told to the browsers."""

from __future__ import annotations

from typing import Any

from django.db.models import F

from ordnung.server.clock import now
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work


def bump(work: Work, **values: Any) -> None:
    """Change some fields of a work and tell the browsers."""
    Work.objects.filter(pk=work.pk).update(**values)
    tell("work", id=work.pk)


def succeed(work: Work, note: str, **values: Any) -> None:
    """It is done, and came to what the note says."""
    bump(work, state=Work.State.DONE, note=note, ended_at=now(), **values)


def fail(work: Work, note: str) -> None:
    """It ended in a failure, which stays in sight until somebody has seen it."""
    bump(work, state=Work.State.FAILED, note=note, ended_at=now())


def add_done(work: Work, amount: int) -> None:
    """Move a work's progress on."""
    Work.objects.filter(pk=work.pk).update(done=F("done") + amount)
    tell("work", id=work.pk)
