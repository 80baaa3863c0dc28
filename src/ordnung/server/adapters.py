"""The engine's ports on the database."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from typing import Any

from asgiref.sync import sync_to_async
from django.db import IntegrityError, transaction
from django.db.models import F

from ordnung.core.baseline import Position, locate
from ordnung.core.components import Server as ServerValue
from ordnung.core.matching import Catalogs
from ordnung.core.review import leave_out
from ordnung.core.rules import Rule
from ordnung.engine.ports import Entry, TapeConflictError
from ordnung.server.clock import now
from ordnung.server.fleet.readings import store_reading
from ordnung.server.runs.models import Run, RunServer, TapeEntry
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work

PERCENT_STEP = 4
"""Progress is stored and told when it moved so far: each store is a durable commit."""


class DatabaseJournal:
    """Tapes as rows. The connection runs with ``synchronous=FULL``: a commit survives a power cut."""

    async def load(self, run: str, server: str) -> list[Entry]:
        """The tape so far."""
        return await sync_to_async(self._load)(run, server)

    def _load(self, run: str, server: str) -> list[Entry]:
        rows = TapeEntry.objects.filter(run_id=int(run), server=server).order_by("seq")
        return [Entry(seq=r.seq, at=r.at, kind=r.kind, body=r.body) for r in rows]

    async def append(self, run: str, server: str, seq: int, kind: str, body: Mapping[str, Any]) -> Entry:
        """Add one entry, durably. Raises TapeConflictError when its number is taken."""
        return await sync_to_async(self._append)(run, server, seq, kind, body)

    def _append(self, run: str, server: str, seq: int, kind: str, body: Mapping[str, Any]) -> Entry:
        at = now()
        try:
            with transaction.atomic():
                TapeEntry.objects.create(run_id=int(run), server=server, seq=seq, at=at, kind=kind, body=dict(body))
        except IntegrityError:
            raise TapeConflictError(f"{server}: entry {seq} of run {run} is taken") from None
        tell("runs", id=int(run), server=server)
        return Entry(seq=seq, at=at, kind=kind, body=body)


class DatabaseReporter:
    """Puts progress where the screens read it and tells the browsers."""

    def __init__(self) -> None:
        self.last: dict[tuple[str, str], tuple[str, str, int | None]] = {}

    async def step(self, run: str, server: str, state: str, detail: str, percent: int | None) -> None:
        """The present step of a server."""
        before = self.last.get((run, server))
        if (
            before is not None
            and before[:2] == (state, detail)
            and abs((percent or 0) - (before[2] or 0)) < PERCENT_STEP
        ):
            return
        self.last[run, server] = (state, detail, percent)
        await sync_to_async(self._step)(run, server, state, detail, percent, before is None or before[0] != state)

    def _step(self, run: str, server: str, state: str, detail: str, percent: int | None, is_new: bool) -> None:
        values: dict[str, Any] = {"state": state, "detail": detail, "percent": percent}
        if is_new:
            values["since"] = now()
        RunServer.objects.filter(run_id=int(run), server__name=server).update(**values)
        tell("step", run=int(run), server=server, state=state, detail=detail, percent=percent)

    async def reading(self, run: str, server: ServerValue, pin: str) -> None:
        """A reading made on the way is kept like any other."""
        await sync_to_async(store_reading)(server, pin)

    async def ended(self, run: str, server: str, state: str, reason: str) -> None:
        """A server has ended."""
        await sync_to_async(self._ended)(run, server, state, reason)

    def _ended(self, run: str, server: str, state: str, reason: str) -> None:
        with transaction.atomic():
            places = RunServer.objects.filter(run_id=int(run), server__name=server)
            places.update(state=state, detail="", percent=None, ended=state, reason=reason, active=False, since=now())
            ended = RunServer.objects.filter(run_id=int(run)).exclude(ended="").count()
            Work.objects.filter(kind="run", subject__run=int(run)).update(
                done=ended, note=f"{server}: {state}, {reason}"
            )
            tell("runs", id=int(run), server=server)
            tell("work")


class DatabaseOrders:
    """What the people want of a run."""

    async def order(self, run: str, server: str) -> str:
        """``go``, ``hold`` or ``stop``."""
        return await sync_to_async(self._order)(run)

    def _order(self, run: str) -> str:
        return Run.objects.values_list("order", flat=True).get(pk=int(run))


class HouseBaseline:
    """Positions of a freshly read server under the rules a run was planned by; what was taken out stays out."""

    def __init__(
        self,
        catalogs: Catalogs,
        rules: Sequence[Rule],
        groups: Mapping[str, str | None],
        left_out: Mapping[str, Mapping[str, str]],
    ) -> None:
        self.catalogs, self.rules, self.groups, self.left_out = catalogs, rules, groups, left_out

    async def locate(self, server: ServerValue) -> tuple[Position, ...]:
        """Where each component stands."""
        value = dataclasses.replace(server, group=self.groups.get(server.name))
        positions = locate(value, self.catalogs, self.rules, now().date())
        return leave_out(positions, self.left_out.get(server.name, {}))


def bump(work: Work, **values: Any) -> None:
    """Change some fields of a work and tell the browsers."""
    Work.objects.filter(pk=work.pk).update(**values)
    tell("work", id=work.pk)


def add_done(work: Work, amount: int) -> None:
    """Move a work's progress on."""
    Work.objects.filter(pk=work.pk).update(done=F("done") + amount)
    tell("work", id=work.pk)
