"""The engine's ports on the database."""

from __future__ import annotations

import dataclasses
import secrets
import time
from collections.abc import Mapping, Sequence
from typing import Any

import structlog
from django.db import transaction
from django.db.models import Q

from ordnung.core.baseline import Position, leave_out, locate
from ordnung.core.components import Server as ServerValue
from ordnung.core.matching import Catalogs
from ordnung.core.orders import ENDS, Order
from ordnung.core.rules import Rule
from ordnung.engine.entries import Answer
from ordnung.engine.ports import Reply
from ordnung.server.clock import now
from ordnung.server.fleet.readings import store_reading
from ordnung.server.runs.leases import return_if_proved
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.records import ask_records
from ordnung.server.runs.turns import window_bars_reset
from ordnung.server.work.events import tell

log = structlog.get_logger()
ORDER_S = 0.2
"""Real seconds an order may be late; asked by every server of a run at every pause."""
PERCENT_STEP = 4
"""Progress is stored and told when it moved so far: each store is a durable commit."""


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
        await ask_records(self._step, run, server, state, detail, percent, before is None or before[0] != state)

    def _step(self, run: str, server: str, state: str, detail: str, percent: int | None, is_new: bool) -> None:
        values: dict[str, Any] = {"state": state, "detail": detail, "percent": percent}
        if is_new:
            values["since"] = now()
        RunServer.objects.filter(run_id=int(run), server__name=server, ended="").update(**values)
        tell("step", run=int(run), server=server, state=state, detail=detail, percent=percent)

    async def reading(self, run: str, server: ServerValue, pin: str) -> None:
        """A reading made on the way is kept like any other."""
        await ask_records(keep_reading, server, pin)

    async def trouble(self, run: str, server: str, error: Exception) -> str:
        """An error of our own, with its traceback in the log under the id that is returned."""
        number = secrets.token_hex(4)
        log.error("server failed by an error of our own", id=number, run=run, server=server, exc_info=error)
        return number


class DatabaseOrders:
    """What the people want of a run; looked up again after a moment, however many servers ask."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[float, str, dict[str, str]]] = {}

    async def order(self, run: str, server: str) -> str:
        """The run's order where that is to stop or to hold, else what was ordered for this server."""
        asked, whole, own = self._known.get(run, (0.0, "", {}))
        if time.monotonic() - asked > ORDER_S:
            whole, own = await ask_records(self._order, run)
            self._known[run] = (time.monotonic(), whole, own)
        mine = own.get(server, Order.GO)
        return mine if whole == Order.GO or (whole == Order.HOLD and mine in ENDS) else whole

    def _order(self, run: str) -> tuple[str, dict[str, str]]:
        rows = RunServer.objects.filter(Q(hold=True) | ~Q(ends=""), run_id=int(run), ended="")
        own = {name: ends or Order.HOLD for name, ends in rows.values_list("server__name", "ends")}
        return Run.objects.values_list("order", flat=True).get(pk=int(run)), own

    async def bars_reset(self, run: str, server: str) -> str:
        """Why no reset may begin now by the sheet's windows."""
        return await ask_records(window_bars_reset, int(run))

    async def overrides(self, run: str, server: str) -> Mapping[str, str]:
        """Checks that a person has overridden for a server, with the reasons."""
        return await ask_records(self._overrides, run, server)

    def _overrides(self, run: str, server: str) -> dict[str, str]:
        return dict(RunServer.objects.values_list("overrides", flat=True).get(run_id=int(run), server__name=server))

    async def reply(self, run: str, server: str) -> Reply | None:
        """What a person answered to the question that a server waits with."""
        return await ask_records(self._reply, run, server)

    def _reply(self, run: str, server: str) -> Reply | None:
        place = RunServer.objects.get(run_id=int(run), server__name=server)
        return Reply(answer=Answer(place.answer), by=place.answered_by) if place.answer else None


class CurrentBaseline:
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


def keep_reading(server: ServerValue, pin: str | None) -> None:
    """Keep a reading; one that proves a server back that was left away gives its place back."""
    with transaction.atomic():
        store_reading(server, pin)
        return_if_proved(server)
