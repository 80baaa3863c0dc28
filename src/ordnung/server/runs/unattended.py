"""Sheets whose reboots are left to whenever they come (``night.md`` P5), and who waits for one since."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from django.db.models import Max

from ordnung.engine.entries import Ending
from ordnung.engine.entry_codec import parse_rounds
from ordnung.server.assessment.current import current_assessment
from ordnung.server.problems import Problem
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.planned import plan_anew


def choose_reboots(run: Run, places: Sequence[RunServer], *, left: bool, sure: bool) -> None:
    """Leave the reboots of a draft to whenever they come, or carry them out; its servers are planned anew for it.

    Raises:
        Problem: it takes something back, nobody is ``sure`` of leaving them, it goes by a disc, or none can be left.
    """
    if run.takes_back_id is not None:
        raise Problem("way-back", "What is taken back is taken back with its reboots.", status=409, field="unattended")
    if left and not sure:
        message = "Say that you are sure: whoever restarts one of them makes it active, and nobody may be there."
        raise Problem("not-sure", message, field="sure")
    if left and run.disc_id is not None:
        message = "It goes by a disc, which needs its reboots now. Choose another way of bringing first."
        raise Problem("by-disc", message, status=409, field="unattended")
    run.unattended = left
    plan_anew(run, places)
    if left and not any(place.rounds for place in places):
        raise Problem("not-left", "None of this can be left for a reboot: it goes alone, at once, or by a power cycle.")


def waiting_for_reboot() -> Iterator[tuple[RunServer, tuple[str, ...]]]:
    """Servers whose last run left them waiting, with what no reading has shown active yet (``slot version``)."""
    started = RunServer.objects.filter(run__started_at__isnull=False)
    latest = started.values("server").annotate(last=Max("pk")).values("last")
    rows = RunServer.objects.filter(pk__in=latest, ended=str(Ending.WAITS)).select_related("server", "run")
    standings = current_assessment().standings if rows else {}
    for row in rows:
        standing = standings.get(row.server.name)
        shown = {part.slot: part.version for part in standing.server.components} if standing is not None else {}
        wanted = {p.write.slot: p.write.to for step in parse_rounds(row.rounds) for p in step.writes if p.ahead}
        left = tuple(f"{slot} {to}" for slot, to in sorted(wanted.items()) if shown.get(slot) != to)
        if left:
            yield row, left
