"""One server of a run, from the first reading to the last check, one journalled step after the other.

Rules that hold whatever happens:
- the payload's identity is checked against the very component before the intent is written;
- the intent is durable before anything is sent; what was sent is never sent again unless the device
  itself shows that it never arrived;
- one write at a time; no reset before the device says that no write is under way;
- reading may be repeated, writing and resetting may not.

Cancelling the coroutine leaves the tape as it is; running it again goes on from there.
"""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar

from ordnung.controllers import ControllerError, Endpoint, LostAnswerError, Marker, TaskView
from ordnung.core.components import Server
from ordnung.core.route import Route, Write, plan_route, plan_way_back
from ordnung.engine.compare import find_position, find_surprises, holds, is_same, lacking
from ordnung.engine.ports import (
    Baseline,
    Clock,
    Controller,
    Controllers,
    Entry,
    Journal,
    Orders,
    Payloads,
    Reporter,
)
from ordnung.engine.tape import MAX_SENDS, TapeState, advance, fold, marker_body, next_step, rounds_body
from ordnung.formats.readings import server_entry
from ordnung.repository import RepositoryError
from ordnung.repository.identity import refuse_foreign

T = TypeVar("T")
LASTING = (
    "certificate changed",
    "certificate invalid",
    "signed out",
    "no permission",
    "not Redfish",
    "said no",
)
"""Causes that waiting does not mend."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Patience:
    """How long each kind of waiting may take, in the site's seconds."""

    contact_s: float = 1800.0
    back_s: float = 2400.0
    version_s: float = 1200.0
    settle_s: float = 20.0
    poll_s: float = 10.0


@dataclass(frozen=True, slots=True, kw_only=True)
class World:
    """The ports a server's run needs."""

    controllers: Controllers
    journal: Journal
    clock: Clock
    payloads: Payloads
    baseline: Baseline
    reporter: Reporter
    orders: Orders
    patience: Patience = dataclasses.field(default_factory=Patience)


class StepFailedError(Exception):
    """A step can't be done; the sentence says why. The server is left as it is and marked for a person."""


@dataclass(slots=True)
class ServerRun:
    """One server in one run. ``back`` names what is to be taken back; None means up to the baseline."""

    run: str
    endpoint: Endpoint
    world: World
    back: Mapping[str, str] | None = None
    state: TapeState = dataclasses.field(default_factory=TapeState)
    troubled_since: datetime.datetime | None = None

    async def carry_out(self) -> TapeState:
        """Go on from wherever the tape stands until the server has ended; returns the last state.

        Raises:
            TapeConflictError: another engine works on this server.
        """
        self.state = fold(await self.world.journal.load(self.run, self.endpoint.name))
        steps: dict[str, Callable[[], Awaitable[None]]] = {
            "read": self._read,
            "plan": self._plan,
            "write": self._write,
            "find write": self._find_write,
            "follow": self._follow,
            "reset": self._reset,
            "find reset": self._find_reset,
            "await": self._await_return,
            "confirm": self._confirm,
            "check": self._check,
        }
        while (step := next_step(self.state)).kind != "none":
            try:
                await steps[step.kind]()
            except StepFailedError as error:
                await self._end("failed", str(error))
            except ControllerError as error:
                if not await self._wait_out(error):
                    await self._end("failed", f"{error.cause}: {error.detail}. {error.remedy}")
        return self.state

    async def _wait_out(self, error: ControllerError) -> bool:
        """Wait for a controller that can't be spoken to just now; False when waiting is no use any more.

        Only reached while no intent is open: whatever the step was about to do was not sent.
        """
        now = self.world.clock.now()
        self.troubled_since = self.troubled_since or now
        gone = (now - self.troubled_since).total_seconds()
        if error.cause in LASTING or gone > self.world.patience.contact_s:
            return False
        await self._show("waiting", f"{error.cause}: {error.detail}; nothing is under way, trying again")
        await self.world.clock.sleep(error.retry_after_s or self.world.patience.poll_s)
        return True

    # Tape and talk

    async def _note(self, kind: str, body: Mapping[str, Any]) -> Entry:
        entry = await self.world.journal.append(self.run, self.endpoint.name, self.state.seq + 1, kind, body)
        self.state = advance(self.state, entry)
        if not kind.endswith("unsent"):
            self.troubled_since = None
        return entry

    async def _end(self, state: str, reason: str) -> None:
        await self._note("ended", {"state": state, "reason": reason})
        await self.world.reporter.ended(self.run, self.endpoint.name, state, reason)

    async def _show(self, state: str, detail: str, percent: int | None = None) -> None:
        await self.world.reporter.step(self.run, self.endpoint.name, state, detail, percent)

    async def _patiently(self, ask: Callable[[Controller], Awaitable[T]], limit_s: float) -> T:
        """Ask something that changes nothing, again and again until it is answered or the limit is over."""
        clock = self.world.clock
        end = clock.now() + datetime.timedelta(seconds=limit_s)
        while True:
            try:
                async with self.world.controllers.open(self.endpoint) as controller:
                    return await ask(controller)
            except ControllerError as error:
                # A session dies with the controller: being signed out while following is no verdict.
                if error.cause in LASTING and not (error.cause == "signed out" and "session" in error.detail):
                    raise
                if clock.now() >= end:
                    minutes = round(limit_s / 60)
                    told = f"no answer for {minutes} min ({error.cause}: {error.detail})"
                    raise StepFailedError(f"{told}. Nothing more was sent. {error.remedy}") from None
                await clock.sleep(error.retry_after_s or self.world.patience.poll_s)

    async def _may_go_on(self) -> bool:
        """Obey hold and stop; only ever asked while no intent is open."""
        while (order := await self.world.orders.order(self.run, self.endpoint.name)) == "hold":
            await self._show("waiting", "held before the next step")
            await self.world.clock.sleep(self.world.patience.poll_s)
        if order == "stop":
            await self._end("stopped", "stopped by a person; nothing is under way on this server")
        return order != "stop"

    # Steps

    async def _read(self) -> None:
        await self._show("confirming", "reading before anything is done")
        server, pin = await self._patiently(self._reading, self.world.patience.contact_s)
        await self._note("read", {"server": server_entry(server), "why": "before"})
        await self.world.reporter.reading(self.run, server, pin)

    async def _reading(self, controller: Controller) -> tuple[Server, str]:
        return await controller.read(self.world.clock.now), controller.pin

    async def _route(self, server: Server) -> Route:
        positions = await self.world.baseline.locate(server)
        return plan_route(positions) if self.back is None else plan_way_back(positions, self.back)

    async def _plan(self) -> None:
        assert self.state.before is not None
        await self._note_plan(await self._route(self.state.before))

    async def _note_plan(self, route: Route) -> None:
        stranded = [dataclasses.asdict(lost) for lost in route.stranded]
        if self.back is not None and route.stranded:
            raise StepFailedError(route.stranded[0].reason)
        await self._note("plan", {"rounds": rounds_body(route.rounds), "stranded": stranded})
        if not route.rounds:
            what = (
                f"nothing to do; no way for {', '.join(s['slot'] for s in stranded)}" if stranded else "level already"
            )
            await self._end("skipped", what)

    async def _write(self) -> None:
        if not await self._may_go_on():
            return
        current = self.state.current
        assert current is not None
        write = current.writes[self.state.written]
        if self.state.sends >= MAX_SENDS:
            raise StepFailedError(f"{write.slot}: the payload did not arrive in {MAX_SENDS} tries; nothing was written")
        await self._show("staging", f"{write.slot} {write.to}")
        ready = await self._find_payload(write)
        async with self.world.controllers.open(self.endpoint) as controller:
            await self._refuse_wrong(controller, write, ready.package)
            reach = await controller.reach()
            way = reach.way(self.world.payloads.protocols)
            if way is None:
                raise StepFailedError(f"{write.slot}: this controller can neither fetch nor be pushed a payload")
            known = [task.uri for task in await self._idle_tasks(controller)]
            intent = {"write": dataclasses.asdict(write), "sha256": ready.sha256, "way": way, "tasks": known}
            await self._note("write intent", intent)
            try:
                if way.startswith("pull"):
                    protocol = way.rsplit(" ", 1)[-1]
                    uri = self.world.payloads.uri(self.run, self.endpoint.name, ready.sha256, protocol)
                    task = await controller.pull(reach, write.slot, uri)
                else:
                    task = await controller.push(reach, write.slot, ready.path)
            except LostAnswerError:
                return  # the intent stays open: the next step asks the device
            except ControllerError as error:
                # Certainly not acted upon: a refusal is final, anything else may be sent again.
                kind = "write failed" if error.cause in LASTING else "write unsent"
                await self._note(kind, {"slot": write.slot, "message": str(error), "why": str(error)})
                raise
            await self._note("write sent", {"task": task})

    async def _find_payload(self, write: Write) -> Any:
        try:
            return await self.world.payloads.find(write.product, write.to)
        except RepositoryError as error:
            raise StepFailedError(f"{write.slot}: {error}; nothing was sent") from None

    async def _refuse_wrong(self, controller: Controller, write: Write, package: Any) -> None:
        """The last look before a write: this very component, at the version planned for, and the right package."""
        positions = await self.world.baseline.locate(await controller.read(self.world.clock.now))
        position = find_position(positions, write.slot)
        if position is None:
            raise StepFailedError(f"{write.slot} is not in the server any more; nothing was sent")
        if package is not None:
            why = refuse_foreign(package, position.component)
        elif position.product is None or position.product.id != write.product:
            why = "the catalog does not say that this file is for it"
        else:
            why = None
        if why is not None:
            raise StepFailedError(f"{write.slot}: {why}; nothing was sent")
        if not is_same(position, position.component.version, write.source):
            told = f"planned from {write.source}, it is at {position.component.version}"
            raise StepFailedError(f"{write.slot}: {told}; nothing was sent. Plan again.")

    async def _idle_tasks(self, controller: Controller) -> list[TaskView]:
        """All tasks the device knows, once none of them runs (N6.3: never two writes at once)."""
        while True:
            tasks = await controller.tasks()
            if not any(task.is_running for task in tasks):
                return tasks
            await self._show("waiting", "another task is under way on this server")
            await self.world.clock.sleep(self.world.patience.poll_s)

    async def _find_write(self) -> None:
        """Reconcile: did the device take the write whose answer we never saw?"""
        await self._show("confirming", "asking the device whether it took the last write")
        for look in (1, 2):
            if await self._patiently(self._took_write, self.world.patience.contact_s):
                return
            if look == 1:
                await self.world.clock.sleep(self.world.patience.settle_s)
        await self._note("write unsent", {"why": "the device knows no such task and holds no such version"})

    async def _took_write(self, controller: Controller) -> bool:
        pending = self.state.open_write
        assert pending is not None
        for task in await controller.tasks():
            mine = not task.targets or any(t.rsplit("/", 1)[-1] == pending.write.slot for t in task.targets)
            if task.uri not in pending.known_tasks and mine:
                await self._note("write sent", {"task": task.uri, "found": "among the device's tasks"})
                return True
        if await self._holds_write(controller):
            await self._note("write done", {"slot": pending.write.slot, "message": "found written"})
            return True
        return False

    async def _follow(self) -> None:
        pending = self.state.open_write
        assert pending is not None and pending.task is not None
        task = await self._watch_task(pending.task, pending.write)
        if task is None:
            # Forgotten by the device: what it holds decides.
            if not await self._patiently(self._holds_write, self.world.patience.contact_s):
                await self._note("write failed", {"slot": pending.write.slot, "message": "the task vanished"})
                raise StepFailedError(f"{pending.write.slot}: the task vanished and the version is not there")
            await self._note(
                "write done",
                {"slot": pending.write.slot, "message": "the task vanished, the version is there"},
            )
        elif task.is_done:
            await self._note("write done", {"slot": pending.write.slot, "message": task.message})
            await self._show("written", f"{pending.write.slot} {pending.write.to}", 100)
        elif task.transfer_failed:
            await self._note("write unsent", {"why": task.message})
        else:
            await self._note("write failed", {"slot": pending.write.slot, "message": task.message})
            left = await self._left_waiting()
            raise StepFailedError(
                f"{pending.write.slot} {pending.write.to} was not written: {task.message}. "
                f"It is still at {pending.write.source}{left}."
            )

    async def _watch_task(self, uri: str, write: Write) -> TaskView | None:
        end = self.world.clock.now() + datetime.timedelta(seconds=self.world.patience.back_s)
        shown: tuple[str, int | None] | None = None
        while True:
            task = await self._patiently(lambda controller: controller.task(uri), self.world.patience.contact_s)
            if task is None or not task.is_running:
                return task
            if shown != (task.phase, task.percent):
                shown = (task.phase, task.percent)
                await self._show(task.phase, f"{write.slot} {write.to}", task.percent)
                end = self.world.clock.now() + datetime.timedelta(seconds=self.world.patience.back_s)
            if self.world.clock.now() >= end:
                told = f"the device stands at {task.percent} % and does not move"
                raise StepFailedError(f"{write.slot}: {told}. It was left alone: do not reset this server.")
            await self.world.clock.sleep(self.world.patience.poll_s)

    async def _holds_write(self, controller: Controller) -> bool:
        pending = self.state.open_write
        assert pending is not None
        positions = await self.world.baseline.locate(await controller.read(self.world.clock.now))
        return holds(positions, pending.write.slot, pending.write.to)

    async def _left_waiting(self) -> str:
        """Which other writes of this round wait for a reset, in words."""
        current = self.state.current
        names = [f"{w.slot} {w.to}" for w in (current.writes[: self.state.written] if current else ())]
        return f"; {', '.join(names)} written before it may wait for a reset" if names else ""

    async def _reset(self) -> None:
        if not await self._may_go_on():
            return
        current = self.state.current
        assert current is not None and current.reset is not None
        if self.state.sends >= MAX_SENDS:
            raise StepFailedError(f"the {current.reset} was asked for {MAX_SENDS} times and never began")
        await self._show("resetting", current.reset)
        async with self.world.controllers.open(self.endpoint) as controller:
            await self._idle_tasks(controller)
            marker = await controller.marker()
            await self._note("reset intent", {"kind": current.reset, "marker": marker_body(marker)})
            try:
                await controller.reset(current.reset)
            except LostAnswerError:
                return
            except ControllerError as error:
                await self._note("reset unsent", {"why": str(error)})
                raise
            await self._note("reset sent", {})

    async def _find_reset(self) -> None:
        """Reconcile: did the device take the reset whose answer we never saw?"""
        pending = self.state.open_reset
        assert pending is not None
        await self._show("resetting", f"asking whether the {pending.kind} has begun")
        for look in (1, 2):
            marker = await self._patiently(lambda controller: controller.marker(), self.world.patience.back_s)
            if _has_restarted(pending.kind, pending.marker, marker) or not marker.is_up:
                await self._note("reset sent", {"found": "by the time of the last start"})
                return
            if look == 1:
                await self.world.clock.sleep(self.world.patience.settle_s)
        await self._note("reset unsent", {"why": "the time of the last start has not changed"})

    async def _await_return(self) -> None:
        pending = self.state.open_reset
        assert pending is not None
        await self._show("returning", f"{pending.kind}: away, which is expected")
        end = self.world.clock.now() + datetime.timedelta(seconds=self.world.patience.back_s)
        while True:
            marker = await self._patiently(lambda controller: controller.marker(), self.world.patience.back_s)
            if _has_restarted(pending.kind, pending.marker, marker) and marker.is_up:
                await self._note("back", {"marker": marker_body(marker)})
                return
            if self.world.clock.now() >= end:
                minutes = round(self.world.patience.back_s / 60)
                raise StepFailedError(f"not back {minutes} min after the {pending.kind}; it stands at {marker.boot}")
            await self._show("returning", f"{pending.kind}: {marker.boot or 'starting'}")
            await self.world.clock.sleep(self.world.patience.poll_s)

    async def _confirm(self) -> None:
        """Read until every version promised is seen: it often shows up minutes late (N6.2)."""
        current, before = self.state.current, self.state.before
        assert current is not None and before is not None
        end = self.world.clock.now() + datetime.timedelta(seconds=self.world.patience.version_s)
        while True:
            await self._show("confirming", "reading again")
            server, pin = await self._patiently(self._reading, self.world.patience.contact_s)
            missing = lacking(await self.world.baseline.locate(server), current.activates)
            if not missing:
                break
            if self.world.clock.now() >= end:
                minutes = round(self.world.patience.version_s / 60)
                raise StepFailedError(f"{'; '.join(missing)}, {minutes} min after the reset")
            await self._show("confirming", f"waiting for the version to show: {missing[0]}")
            await self.world.clock.sleep(self.world.patience.poll_s)
        await self._note("read", {"server": server_entry(server), "why": "after round"})
        await self.world.reporter.reading(self.run, server, pin)
        surprises = find_surprises(before, server, {slot for slot, _ in (*self.state.done, *current.activates)})
        if surprises:
            raise StepFailedError(f"the check after found: {'; '.join(surprises)}")
        await self._note("confirmed", {"versions": [list(pair) for pair in current.activates]})
        await self._show("checked", f"round {self.state.round} confirmed by reading")

    async def _check(self) -> None:
        """All rounds done: read, and if something is possible still, plan on until level (N6.6)."""
        server, _ = await self._patiently(self._reading, self.world.patience.contact_s)
        route = await self._route(server)
        again = {(write.slot, write.to) for write in route.writes} & set(self.state.done)
        if again:
            told = ", ".join(f"{slot} {version}" for slot, version in sorted(again))
            raise StepFailedError(f"{told} was confirmed and is gone again")
        if route.rounds:
            await self._note_plan(route)
            return
        lost = "; ".join(f"{s.slot}: {s.reason}" for s in route.stranded)
        state = "put back" if self.back is not None else "level"
        await self._end(state, f"as far as it goes. {lost}" if lost else "every version confirmed by reading")


def _has_restarted(kind: str, before: Marker, now: Marker) -> bool:
    if kind == "controller restart":
        return now.controller != before.controller
    return now.system != before.system
