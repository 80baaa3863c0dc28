"""``python -m ordnung.server.manage rebuild_runs``: write the rows of all runs anew from their tapes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from ordnung.server.engine_lock import EngineRunsError, take_engine_lock
from ordnung.server.runs.derived import rebuild_all


class Command(BaseCommand):
    """Refused while an engine is at work, which does the same at its start."""

    help = "Compare what is kept of every run with its tapes, and write anew what differs."

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            lock = take_engine_lock(Path(settings.HOME))
        except EngineRunsError as error:
            raise CommandError(str(error)) from None
        with lock:
            different = rebuild_all()
        for run, server in different:
            self.stdout.write(f"run {run.pk} ({run.name}): {server} was written anew")
        self.stdout.write(f"{len(different)} rows differed from their tapes")
