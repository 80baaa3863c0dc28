"""Orders to a run under way, or to a part of it, and what each will mean (``core.orders``)."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Sequence
from dataclasses import dataclass

from django.db import transaction

from ordnung.core.orders import ENDS, Meaning, Order, Ordered, tell_meaning
from ordnung.core.turn import tell_time
from ordnung.engine.left import step_under_way
from ordnung.engine.tape import fold
from ordnung.server.audit.recording import record
from ordnung.server.clock import is_near, now
from ordnung.server.house.windows import zone
from ordnung.server.problems import Problem
from ordnung.server.runs.derived import load_tape
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.turns import windows_of
from ordnung.server.work.events import tell

SENDS = ("write intent", "reset intent", "errand asked")
"""Entries by which a server has begun: something was, or is about to be, asked of it or for it."""
_WHOLE = (Order.HOLD, Order.GO, Order.STOP)
"""What can be ordered of a run as a whole, those of it that come later included."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Scope:
    """Whom an order is for: a wave, a group, one server; nothing of it: the whole run."""

    wave: str = ""
    group: str = ""
    server: str = ""

    @property
    def is_whole(self) -> bool:
        """Whether it is for all of the run, those that come later included."""
        return not (self.wave or self.group or self.server)


def mean_order(run: Run, order: Order, scope: Scope, not_before: datetime.datetime | None = None) -> Meaning:
    """What an order would mean now. Raises Problem as ``give_order`` does for what can't be ordered at all."""
    return _mean(run, order, scope, _places(run, scope), _moment(order, not_before))


def give_order(run: Run, order: Order, scope: Scope, not_before: datetime.datetime | None = None) -> None:
    """Order it. What is under way on a server is always finished first; who can't be ordered that is left as it is.

    Raises:
        Problem: the run is not under way, nobody of it is meant or would be changed, or the time is none to begin at.
    """
    with transaction.atomic():
        places, moment = _places(run, scope), _moment(order, not_before)
        meaning = _mean(run, order, scope, places, moment)
        if not meaning.servers and not (scope.is_whole and order in _WHOLE):
            why = meaning.refused[0] if meaning.refused else "Nobody there is held, or all have ended."
            raise Problem("nothing-to-order", f"That changes nothing. {why}", status=409)
        named = {name: value for name in ("wave", "group", "server") if (value := getattr(scope, name))}
        told = {"order": str(order), **({"not_before": moment.isoformat()} if moment else {})}
        record(on={"run": run.pk, "servers": list(meaning.servers)}, before={"order": run.order}, after=named | told)
        if scope.is_whole and order in _WHOLE:
            if not Run.objects.give_order(run.pk, order):
                raise Problem("not-running", f"{run.name} was told to stop.", status=409)
        else:
            _order_some(order, [p for p in places if p.server.name in set(meaning.servers)], moment)
    tell("runs", id=run.pk)


def _order_some(order: Order, places: Sequence[RunServer], moment: datetime.datetime | None) -> None:
    chosen = RunServer.objects.filter(pk__in=[place.pk for place in places], ended="")
    if order in ENDS:
        chosen.update(ends=order)
    elif order is Order.LATER:
        chosen.update(not_before=moment)
    else:
        chosen.update(hold=order is Order.HOLD)


def _places(run: Run, scope: Scope) -> list[RunServer]:
    """Those meant who have not ended."""
    if run.state != Run.State.RUNNING:
        raise Problem("not-running", f"{run.name} is not under way.", status=409)
    rows = run.servers.select_related("server")
    for name, value in (("wave", scope.wave), ("group", scope.group), ("server__name", scope.server)):
        rows = rows.filter(**{name: value}) if value else rows
    found = list(rows)
    if not found:
        raise Problem("format", f"{run.name} has no such servers.", field="server")
    return [place for place in found if not place.ended]


def _moment(order: Order, not_before: datetime.datetime | None) -> datetime.datetime | None:
    if order is not Order.LATER:
        return None
    if not_before is None or not_before <= now() or not is_near(not_before):
        raise Problem("format", "Say a time to come, within ten years.", field="not_before")
    return not_before


def _mean(
    run: Run, order: Order, scope: Scope, places: Sequence[RunServer], moment: datetime.datetime | None
) -> Meaning:
    if order is Order.GO and run.order == Order.HOLD and not scope.is_whole:
        raise Problem("held", "The whole run is held: let that go on first.", status=409)
    begun = set(run.entries.filter(kind__in=SENDS).values_list("server", flat=True))
    servers = [_ordered(run, place, place.server.name in begun) for place in places]
    if scope.is_whole:
        # Whom a person holds by name goes on by name.
        servers = [dataclasses.replace(s, held=run.order == Order.HOLD and not s.held) for s in servers]
    if moment is None:
        return tell_meaning(order, servers)
    local = moment.astimezone(zone())
    windows = windows_of(run)
    left = None if windows is None else (max(end for _, end in windows) - moment).total_seconds()
    return tell_meaning(order, servers, tell_time(local), left)


def _ordered(run: Run, place: RunServer, has_begun: bool) -> Ordered:
    """Where a server stands. The tape of one that has not begun need not be read."""
    name = place.server.name
    if not has_begun:
        return Ordered(server=name, begun=False, held=place.hold, needs_s=place.needs_seconds)
    tape = load_tape(run.pk, name)
    state = fold(tape)
    moment = now()
    step, left = step_under_way(state, tape[-1].at if tape else moment, moment, place.percent)
    current = state.current
    waits = [p.write.slot for p in current.writes[: state.written]] if current is not None and not step else []
    if state.was_ahead and not step and not state.done:
        waits = sorted({write.slot for write in state.waiting})
    return Ordered(
        server=name,
        begun=True,
        step=step,
        left_s=left,
        needs_s=place.needs_seconds,
        held=place.hold,
        is_last=state.open_reset is not None and state.round + 1 == len(state.rounds or ()),
        elsewhere=state.is_moved_off,
        waits=tuple(waits) if (current is None or current.reset) and not state.in_disc else (),
        in_disc=state.in_disc and state.is_away,
    )
