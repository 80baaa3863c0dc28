"""What every step of a server's run uses: its tape, its controller, the clock, and what people are shown."""

from __future__ import annotations

import datetime
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import TypeVar

from ordnung.controllers import ControllerError, Endpoint, TaskView
from ordnung.core.away import AwayPlace
from ordnung.core.by_disc import go_by_disc
from ordnung.core.checks import Finding, Severity, Situation, find_block, is_redundant, run_checks
from ordnung.core.components import Component, Server, take_by_image
from ordnung.core.detours import go_alone, go_between
from ordnung.core.errands import Moves
from ordnung.core.facts import PASSING
from ordnung.core.orders import ENDS, Order
from ordnung.core.route import Route, plan_route, plan_way_back
from ordnung.core.sheet import PlannedRound, name_payloads
from ordnung.core.unattended import leave_reboots
from ordnung.core.waiting import Left, show_waiting
from ordnung.engine.compare import find_unlisted
from ordnung.engine.entries import (
    Deferred,
    Ended,
    Ending,
    Entry,
    Reason,
    ResetIntent,
    ResetKind,
    ResetUnsent,
    TapeEntry,
    Warned,
    WriteIntent,
    WriteUnsent,
)
from ordnung.engine.ports import Controller
from ordnung.engine.reset_watch import ResetWatch
from ordnung.engine.settling import Settling
from ordnung.engine.tape import MAX_DEFERRALS, advance
from ordnung.engine.tape_state import TapeState
from ordnung.engine.telling import tell_reason
from ordnung.engine.world import LASTING, SETTLED_BY_PEOPLE, STRANGE, StepFailedError, StoppedError, Ticket, World

T = TypeVar("T")
MAX_REFUSALS, REFUSED_S = 2, 120.0
"""How often a refused sign-in is tried again while a controller wakes, and after how many of the site's seconds."""
STRANGE_S = 300.0
"""How long a controller that wakes may show another certificate before that is taken for its own."""
_TRIES = (WriteIntent, WriteUnsent, ResetIntent, ResetUnsent)
"""What is noted again and again of a controller that puts it off each time: no sign of getting on."""
SILENT = ("unreachable", "too slow")
"""Causes by which nothing came back: one that refuses a connection is there."""
NOBODY = "no controller answers: the way to them is down; nothing is sent, and what is waited for does not count"


@dataclass(slots=True)
class Hand:
    """One server in one run, at work. ``back`` names what is to be taken back; None means up to the baseline."""

    run: str
    endpoint: Endpoint
    world: World
    place: AwayPlace
    order: tuple[int, ...] = (0,)
    back: Mapping[str, str] | None = None
    approved: frozenset[tuple[str, str]] | None = None
    """Slots with the sums of the payloads that may be sent there; None: the sheet needed no approval (P4)."""
    on_sheet: frozenset[str] = frozenset()
    """Slots that its sheet writes to: what is planned from is known to be there."""
    left_before: tuple[Left, ...] = ()
    """What earlier runs have left waiting in it for a reset, whether or not its controller shows it."""
    moves: Moves = Moves()
    """What its group wants done around an outage (P1)."""
    ahead: bool = False
    """Whether the sheet lets it be written before its turn, what then waits for its reset (T8)."""
    unattended: bool = False
    """Whether its reboots are left to whenever they come: nothing of ours takes it out of service (P5)."""
    on_disc: bool = False
    """Whether this runs on the very server, started from a disc or a stick."""
    by_disc: bool = False
    """Whether what is sent is brought by a disc in its virtual media, by the field kit that starts from it."""
    order_mark: str = ""
    """Under which mark that kit leaves word of how it ended (``formats.order``)."""
    state: TapeState = field(default_factory=TapeState)
    troubled_since: datetime.datetime | None = None
    judged: Server | None = None
    """The reading by which the last write of this round was judged; gone with each reset."""
    settling: Settling | None = None
    """What is waited for since the last start because a reading does not show all that was known."""
    redundant_since: datetime.datetime | None = None
    """Since when others of what was written are waited for."""
    seen_on_disc: bool = False
    """Whether this very process has seen that its starts go to the disc: only then it tells that they don't."""
    refusals: int = 0
    """How often it has refused our credentials since the reset that is waited for."""
    refused: str | None = None
    """The mark of the way that was tried in vain, while a person is waited for: it is not tried again."""
    strange_since: datetime.datetime | None = None
    """Since when it has shown another certificate than the one that is known."""
    last_words: str = ""
    """What its controller answered to the last request that is not known to have been acted upon."""
    watch: ResetWatch = field(default_factory=ResetWatch)
    """What this very process has seen of the reset that is open."""

    @property
    def name(self) -> str:
        """The server's name."""
        return self.endpoint.name

    @property
    def own_disc(self) -> bool:
        """Whether that its starts go to a disc, and one is inserted, is of our own doing."""
        return self.on_disc or self.state.in_disc

    def shares(self, component: Component) -> bool:
        """Whether a component belongs to other systems too: the controller they are all behind."""
        return self.endpoint.system is not None and component.kind == "controller"

    def begin_anew(self, state: TapeState) -> None:
        """Know what the tape tells and nothing else, as after a death of the engine."""
        self.state, self.troubled_since, self.judged, self.settling = state, None, None, None
        self.seen_on_disc, self.refusals, self.last_words, self.strange_since = False, 0, "", None
        self.watch, self.redundant_since = ResetWatch(), None

    # Tape and talk

    async def note(self, value: TapeEntry) -> Entry:
        """Put an entry on the tape, durably. Raises as ``Journal.append``."""
        entry = await self.world.journal.append(self.run, self.name, self.state.seq + 1, value)
        self.state = advance(self.state, entry)
        if not isinstance(value, _TRIES):
            self.troubled_since = None
        return entry

    def hear(self, error: ControllerError) -> None:
        """Keep what its controller said to a request that is not known to have been acted upon, if it said anything."""
        self.last_words = error.detail if error.cause in ("malformed answer", "busy") else ""

    def fail_unheard(self, reason: Reason, **facts: object) -> StepFailedError:
        """What was sent often enough and never acted upon, with what the controller last said to it."""
        return StepFailedError(reason, **facts, **({"said": self.last_words} if self.last_words else {}))

    async def end(self, ending: Ending, reason: Reason, **facts: object) -> None:
        """Nothing more is done on this server; what waits in it is told, and a disc of ours that may still be in it."""
        kept = {(pending.planned.write.slot, pending.planned.write.to) for pending in self.state.staged}
        waiting = ((write.slot, write.to) for write in self.state.waiting)
        waits = ", ".join(f"{slot} {to}" for slot, to in waiting if (slot, to) not in kept)
        facts |= {"waits": waits} if waits and ending is not Ending.WAITS else {}
        told = ", ".join(f"{slot} {to}" for slot, to in sorted(kept))
        facts |= {"staged" if self.state.open_reset is None else "writing": told} if kept else {}
        facts |= {"disc": "in"} if self.state.in_disc else {}
        await self.note(Ended(ending=ending, reason=reason, facts={k: str(v) for k, v in facts.items()}))

    async def show(self, state: str, detail: str, percent: int | None = None) -> None:
        """Tell people what is under way."""
        await self.world.reporter.step(self.run, self.name, state, detail, percent)

    def until(self, seconds: float) -> datetime.datetime:
        """The moment in so many of the site's seconds."""
        return self.world.clock.now() + datetime.timedelta(seconds=seconds)

    async def pause(self, *, whole: bool = False) -> None:
        """Wait a moment before looking again; longer where a look is a ``whole`` reading: that is work for a device."""
        patience = self.world.patience
        await self.world.clock.sleep(max(patience.poll_s, patience.whole_s) if whole else patience.poll_s)

    # The device

    @asynccontextmanager
    async def open(self) -> AsyncIterator[Controller]:
        """Its controller, signed in. Whether it answers tells of the way there, unless it is being restarted itself."""
        answered = True
        try:
            async with self.world.controllers.open(self.endpoint) as controller:
                yield controller
                self.strange_since = None
        except ControllerError as error:
            answered = error.cause not in SILENT
            raise
        finally:
            pending = self.state.open_reset
            if pending is None or pending.kind is ResetKind.SERVER_REBOOT:
                self.world.site.contact.note(self.endpoint.url, self.world.clock.now(), answered=answered)

    def is_way_down(self) -> bool:
        """Whether no controller answers: then what is waited for does not count against this one."""
        return self.world.site.contact.is_down(self.world.clock.now())

    async def patiently(self, ask: Callable[[Controller], Awaitable[T]], limit_s: float) -> T:
        """Ask something that changes nothing, again and again until it is answered or the limit is over."""
        clock, end = self.world.clock, self.until(limit_s)
        while True:
            try:
                async with self.open() as controller:
                    return await ask(controller)
            except ControllerError as error:
                if is_lasting(error) and not await self.forgives(error):
                    raise
                if self.is_way_down():
                    end = self.until(limit_s)
                    await self.show("waiting", NOBODY)
                if clock.now() >= end:
                    minutes = round(limit_s / 60)
                    raise StepFailedError(
                        Reason.NO_CONTACT, minutes=minutes, cause=error.cause, detail=error.detail, remedy=error.remedy
                    ) from None
                await clock.sleep(error.retry_after_s or self.world.patience.poll_s)

    async def forgives(self, error: ControllerError) -> bool:
        """Whether a refused sign-in, or another certificate, is put down to a restart, after a pause: the accounts, or
        its own certificate, may not be loaded yet.

        To one that is waited for, or to one that the controller does by itself once its own image is written. Signing
        in is tried seldom and slowly, since each refusal counts towards locking the account; to a certificate nothing
        is sent.
        """
        pending = self.state.open_reset
        wakes = self.state.open_write is not None or (pending and pending.kind is not ResetKind.SERVER_REBOOT)
        if wakes and error.cause in STRANGE:
            return await self._may_be_its_own_soon(error)
        if not wakes or error.cause != "signed out" or self.refusals >= MAX_REFUSALS:
            return False
        self.refusals += 1
        await self.show("waiting", f"{error.detail}: its accounts may not be loaded yet after its restart")
        await self.world.clock.sleep(REFUSED_S)
        return True

    async def _may_be_its_own_soon(self, error: ControllerError) -> bool:
        now = self.world.clock.now()
        self.strange_since = self.strange_since or now
        if (now - self.strange_since).total_seconds() >= STRANGE_S:
            return False
        await self.show("waiting", f"{error.detail}: its own certificate may not be loaded yet after its restart")
        await self.pause()
        return True

    async def read(self, controller: Controller) -> tuple[Server, str]:
        """One reading, with the certificate's fingerprint."""
        return await controller.read(self.world.clock.now), controller.pin

    async def read_fresh(self, controller: Controller, slot: str) -> Server | None:
        """A reading to judge the next write by: taken now, or moments ago for a write of the same round.

        What others of its kind must stand in for is judged by how those stand now. None when it does not show yet what
        was known: then nothing is to be done but to come back.
        """
        known, oldest = self.judged, self.until(-self.world.patience.fresh_s)
        if known is not None and is_redundant(known, slot):
            known = None
        if known is not None and known.read_at is not None and self.state.written and known.read_at > oldest:
            return known
        self.judged = await self.read_settled(controller)
        return self.judged

    async def read_settled(self, controller: Controller) -> Server | None:
        """A reading that shows all that was known, or has had its time for that; None, after a pause, for any other.

        A start that nobody here asked for leaves an inventory that is not whole for minutes, and a server that is being
        switched: by that neither a write nor a reset can be judged.
        """
        server, known = await controller.read(self.world.clock.now), self.state.latest or self.state.before
        odd = find_unlisted(known, server) if known is not None else []
        power = server.facts.power if server.facts is not None else None
        odd = [f"its power is {power}"] if power in PASSING else odd
        if not odd:
            self.settling = None
            return server
        patience = self.world.patience
        steady_s = patience.version_s if power in PASSING else patience.steady_s
        self.settling = self.settling or Settling(steady_s, patience.version_s)
        if self.settling.is_over(odd, self.world.clock.now()):
            return server
        await self.show("waiting", f"waiting for it to settle: {odd[0]}")
        await self.pause()
        return None

    async def wait_out(self, error: ControllerError) -> bool:
        """Wait for a controller that can't be spoken to just now; False when waiting is no use any more.

        Only reached while no intent is open: whatever the step was about to do was not sent.
        """
        now = self.world.clock.now()
        if self.is_way_down():
            self.troubled_since = now
        self.troubled_since = self.troubled_since or now
        gone = (now - self.troubled_since).total_seconds()
        if is_lasting(error) or gone > self.world.patience.contact_s:
            return False
        await self.show("waiting", f"{error.cause}: {error.detail}; nothing is under way, trying again")
        await self.world.clock.sleep(error.retry_after_s or self.world.patience.poll_s)
        return True

    async def heed(self, situation: Situation) -> Finding | None:
        """Run the checks: a new warning is put on the tape, and what stops the server is answered."""
        findings = run_checks(situation, await self.world.orders.overrides(self.run, self.name))
        for found in findings:
            if found.severity is Severity.WARN and (found.check, found.seen) not in self.state.warned:
                await self.note(Warned(check=found.check, seen=found.seen, remedy=found.remedy))
        return find_block(findings)

    # Plans and people

    async def plan(self, server: Server) -> tuple[Route, tuple[PlannedRound, ...]]:
        """The route from a reading, with its payloads by name."""
        server = take_by_image(server) if self.state.no_targets_at is not None else server
        positions = await self.world.baseline.locate(show_waiting(server, self.state.waiting))
        back = self.takes_back
        upwards = go_between(go_alone(positions, self.state.alone), self.state.steps_between)
        route = plan_route(upwards) if back is None else plan_way_back(positions, back)
        rounds = name_payloads(route.rounds, positions, by_bank=self.takes_back is not None)
        if self.by_disc:
            return route, go_by_disc(rounds)
        return route, leave_reboots(rounds, self.state.said_written) if self.unattended else rounds

    @property
    def takes_back(self) -> Mapping[str, str] | None:
        """What goes back, and to which version: as the sheet says, or as a remedy; None on the way up."""
        if self.back is not None or not self.state.puts_back:
            return self.back
        before = self.state.before
        assert before is not None
        known = {part.slot: part.version for part in before.components}
        return {slot: old for slot in self.state.touched if (old := known.get(slot)) is not None}

    def not_approved(self, rounds: Sequence[PlannedRound]) -> str:
        """What of some rounds nobody has approved, in words; empty when all of it was."""
        writes = [planned for step in rounds for planned in step.writes]
        if self.approved is None:
            return ""
        return ", ".join(
            f"{p.write.slot} {p.write.to}" for p in writes if (p.write.slot, p.brings) not in self.approved
        )

    async def may_go_on(self, ticket: Ticket | None = None) -> None:
        """Obey hold and stop; only ever asked while no intent is open. A ``ticket`` is marked while it is held.

        Raises:
            StoppedError: a person stops it here.
        """
        while (order := await self.world.orders.order(self.run, self.name)) == Order.HOLD:
            if ticket is not None:
                ticket.held = True
            await self.show("waiting", "held before the next step")
            await self.pause()
        if ticket is not None:
            ticket.held = False
        if order in ENDS:
            raise StoppedError(is_left_out=order == Order.LEAVE_OUT)

    async def is_stopped(self) -> bool:
        """Whether a person ends this server as soon as nothing is under way on it."""
        return await self.world.orders.order(self.run, self.name) in ENDS

    # Someone else's job

    async def wait_for_others(self, running: list[TaskView], since: datetime.datetime) -> bool:
        """Wait a little for a job that is not ours; False when the place was given back instead.

        Raises:
            StepFailedError: it has been waited for often enough.
        """
        patience, own = self.world.patience, self.world.site.writing.get(self.endpoint.url)
        if own not in (None, self.name):
            await self.show("waiting", f"its controller is writing for {own}")
            await self.pause()
            return True
        job = ", ".join(f"{task.name} ({task.state or 'no state told'})" for task in running)[:300]
        facts = {"job": job, "minutes": str(round(patience.job_s / 60))}
        if (self.world.clock.now() - since).total_seconds() < patience.job_s:
            await self.show("waiting", f"someone else's job is on this server: {job}")
            await self.pause()
            return True
        if self.state.deferrals >= MAX_DEFERRALS or self.state.is_away or self.state.is_moved_off:
            raise StepFailedError(Reason.FOREIGN_JOB, **facts)
        await self.note(Deferred(reason=Reason.FOREIGN_JOB, facts=facts))
        await self.show("waiting", f"put off to the end: {tell_reason(Reason.FOREIGN_JOB, facts)}")
        return False


def is_lasting(error: ControllerError) -> bool:
    """Whether waiting won't mend it. A session dies with its controller: that is no verdict on the credentials."""
    return error.cause in LASTING and not (error.cause == "signed out" and "session" in error.detail)


def is_refusal(error: ControllerError) -> bool:
    """Whether it won't do what was asked, whoever asks: that is final. Who is not let in has asked for nothing."""
    return is_lasting(error) and error.cause not in SETTLED_BY_PEOPLE
