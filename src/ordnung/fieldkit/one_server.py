"""What ``ordnung level`` does with its one server: begin or go on, show the cost, carry it out, say how it ended."""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
import datetime
import os
import signal
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click
from rich.filesize import decimal

from ordnung.controllers import Client, ControllerError, Endpoint, RedfishControllers, Word
from ordnung.core.away import AwayPlace
from ordnung.core.components import KINDS, Server
from ordnung.core.facts import tell_span
from ordnung.core.same_server import Likeness, compare
from ordnung.core.waiting import Left, show_waiting
from ordnung.engine.entries import Ended, Ending
from ordnung.engine.hand import is_lasting
from ordnung.engine.journal_lines import OpenedRun
from ordnung.engine.left import round_seconds, seconds_left
from ordnung.engine.payloads import StoredPayloads
from ordnung.engine.run import RunServer, carry_out_run
from ordnung.engine.telling import tell_reason
from ordnung.engine.world import USUAL, Choice, Patience, World
from ordnung.fieldkit.console import ConsolePorts, Keyboard, Screen, event
from ordnung.fieldkit.journal import FileJournal
from ordnung.fieldkit.kit import Kit, KitBaseline, Wanted, Way
from ordnung.fieldkit.settling import ConsoleAccess
from ordnung.fieldkit.show import print_table
from ordnung.formats.order import Order
from ordnung.formats.siteclock import SiteClock
from ordnung.store import PayloadProcess

GOOD = (Ending.LEVEL, Ending.SKIPPED, Ending.PUT_BACK)
MOST_SHOWN = 40


@dataclass(slots=True)
class Job:
    """What one call of the command works with."""

    endpoint: Endpoint
    password_file: Path
    kit: Kit
    journal: FileJournal
    baseline: KitBaseline
    clock: SiteClock
    screen: Screen
    keyboard: Keyboard
    folder: Path
    overrides: Mapping[str, str]
    back: Mapping[str, str] | None = None
    before: Server | None = None
    """The server that an earlier run in the journal was on, where that is gone on with or put back."""
    serve: tuple[str, Path] | None = None
    order: Order | None = None
    on_disc: bool = False
    yes: bool = False
    dry_run: bool = False
    as_json: bool = False
    said: str = ""
    """Why it has ended without all that it was to do, for whoever ordered it."""
    is_idle: bool = False
    """Nothing that it sent is under way, for certain."""


def what_to_put_back(job: Job) -> dict[str, str]:
    """The versions before the last run of this server that changed something. Raises ClickException."""
    for opened in reversed(job.journal.runs):
        state = job.journal.state(opened.run, opened.server)
        if opened.server != job.endpoint.name or not state.changed or state.before is None:
            continue
        if state.ended is None:
            raise click.ClickException("The last run has not ended: go on with it first, without --put-back.")
        job.before = state.before
        known = {part.slot: part.version for part in state.before.components}
        return {slot: version for slot in sorted(state.changed) if (version := known.get(slot)) is not None}
    raise click.ClickException(f"No run in {job.journal.path} has changed {job.endpoint.name}.")


def _open_run(job: Job) -> OpenedRun | None:
    """The run of this server that has begun and not ended. Raises ClickException when it can't be gone on with."""
    for opened in reversed(job.journal.runs):
        if opened.server != job.endpoint.name:
            continue
        if job.journal.state(opened.run, opened.server).ended is not None:
            return None
        if opened.packing != job.kit.packing_sum:
            what = f"{opened.repository}, edition {opened.edition}"
            raise click.ClickException(f"A run from {what} has begun on {opened.server} and not ended: bring that one.")
        if opened.rules != job.kit.rules_sum:
            which = f"the rules with SHA-256 {opened.rules}" if opened.rules else "the repository's own rules"
            what = f"A run by {which} has begun on {opened.server} and not ended"
            raise click.ClickException(f"{what}: go on by those, or stop it first.")
        return opened
    return None


async def bring_level(job: Job, ca: str | None) -> int:
    """Bring the server of a job level, or show what would be done.

    Returns:
        The exit status: 0 level, or nothing to do; 1 not.

    Raises:
        ControllerError: it can't be read.
        ClickException: another server answers there, or another repository is wanted.
    """
    async with Client(ca) as client:
        controllers = RedfishControllers(client)
        try:
            return await _go(job, controllers)
        finally:
            job.screen.close()  # what was said last stays to be read
            await controllers.close()


async def _go(job: Job, controllers: RedfishControllers) -> int:
    opened = _open_run(job)
    if opened is not None and job.dry_run:
        job.screen.say(f"A run of {opened.at:%d %b %H:%M} UTC has not ended; without --dry-run it is gone on with.")
        return 1
    if opened is not None:
        job.back = opened.back
        job.baseline = _going_on(job.baseline, opened)
        job.screen.say(f"Going on with the run of {opened.at:%d %b %H:%M} UTC.")
        job.before = job.journal.state(opened.run, opened.server).before
    waits = opened is not None or job.order is not None
    server = await (_read_patiently if waits else _read)(job, controllers)
    _demand_same(job, server)
    # From here on whoever else answers there is refused: an inner address is alike in all servers.
    job.endpoint = dataclasses.replace(job.endpoint, uuid=server.uuid, serial=server.serial)
    if job.order is None:
        return await _bring(job, controllers, server, opened)
    try:
        return await _bring(job, controllers, server, opened)
    except (ControllerError, click.ClickException) as error:
        job.said = str(error)
        raise
    finally:
        await _tell_site(job, job.order, controllers)


async def _tell_site(job: Job, order: Order, controllers: RedfishControllers) -> None:
    """Whoever gave the order finds how it ended with the controller, where that keeps a word, and sees by the server's
    starts that it is over: they don't go to the disc any more.
    """
    if job.said:
        with contextlib.suppress(ControllerError):  # it only tells more
            async with controllers.open(job.endpoint) as controller:
                await controller.leave_word(order.mark, Word(text=job.said, is_idle=job.is_idle))
    try:
        async with controllers.open(job.endpoint) as controller:
            await controller.leave_disc()
    except ControllerError as error:
        job.screen.say(f"That it is over could not be told ({error.cause}: {error.detail}); it is seen after a while.")


async def _bring(job: Job, controllers: RedfishControllers, server: Server, opened: OpenedRun | None) -> int:
    """Carry it out, or go on with what has begun, once it is certain which server answers."""
    if opened is None:
        _check_names(job.baseline.wanted, server)
        way = job.baseline.plan(show_waiting(server, _left(job)), job.back)
        _show(job, server, way)
        if job.back is not None and (way.route.stranded or any(map(job.baseline.why_not, way.writes))):
            job.screen.say("Nothing was sent: it can't be put back with what is here.")
            return 1
        if not way.rounds:
            stays = _stays(way)
            job.screen.say("Nothing to send." if stays else "Nothing is left to do.")
            job.said, job.is_idle = "; ".join(f"{slot} stays: {why}" for slot, why in stays.items()), True
            return 0
        if job.dry_run:
            return 0
        if not job.yes and not await _agreed(job):
            return 1
        opened = _begin(job, way)
    ended = await _carry_out(job, controllers, opened)
    return _tell_end(job, ended)


def _left(job: Job) -> tuple[Left, ...]:
    """What the runs in the journal have left waiting in it for a reset: by itself its controller may not tell that."""
    states = [
        job.journal.state(opened.run, opened.server)
        for opened in job.journal.runs
        if opened.server == job.endpoint.name
    ]
    known = [state.waiting for state in states if state.before is not None]
    return known[-1] if known else ()


async def _read(job: Job, controllers: RedfishControllers) -> Server:
    async with controllers.open(job.endpoint) as controller:
        return await controller.read(job.clock.now)


async def _read_patiently(job: Job, controllers: RedfishControllers) -> Server:
    """Read a server that may be restarting, or that nobody stands at. Raises ControllerError in the end."""
    patience = _patience(job.clock)
    end, is_told = job.clock.now() + datetime.timedelta(seconds=patience.contact_s), False
    while True:
        try:
            return await _read(job, controllers)
        except ControllerError as error:
            if is_lasting(error) or job.clock.now() >= end:
                raise
            if not is_told:
                job.screen.say(f"{error.cause}: {error.detail}; waiting for it.")
            is_told = True
            await job.clock.sleep(error.retry_after_s or patience.poll_s)


def _demand_same(job: Job, server: Server) -> None:
    """What the journal knows is done to the very server it knows: addresses inside a server are alike in all of them.

    Raises:
        ClickException: another one answers there now.
    """
    if job.order is not None and not job.order.is_for(server.uuid, server.serial):
        told = job.order.serial or job.order.uuid
        message = f"The order is for {job.order.server} ({told}); this server is {server.serial or server.uuid}."
        raise click.ClickException(f"{message} Nothing was sent.")
    before = job.before
    if before is None:
        return
    likeness, how = compare(before, server)
    if likeness is Likeness.OTHER:
        message = f"Another server answers at {job.endpoint.url} than the run in this journal was on: {how}."
        raise click.ClickException(f"{message} Nothing was sent. Take another --work for it.")


def _going_on(baseline: KitBaseline, opened: OpenedRun) -> KitBaseline:
    return KitBaseline(
        kit=baseline.kit, clock=baseline.clock, wanted=baseline.wanted, group=baseline.group,
        left_out=opened.left_out or {},
    )  # fmt: skip


def _check_names(wanted: Wanted, server: Server) -> None:
    known = {*KINDS, *(part.slot for part in server.components)}
    strange = sorted((wanted.only | wanted.but) - known)
    if strange:
        raise click.UsageError(f"{', '.join(strange)}: neither a kind of component nor a slot of this server")


async def _agreed(job: Job) -> bool:
    if not job.keyboard.is_there:
        raise click.UsageError("nobody is at a terminal to agree: say --yes")
    click.echo("Begin? [y/n]")
    if (await job.keyboard.line()).strip().lower() in ("y", "yes"):
        return True
    job.screen.say("Nothing was sent.")
    return False


def _begin(job: Job, way: Way) -> OpenedRun:
    packing = job.kit.packing
    opened = OpenedRun(
        run=str(len(job.journal.runs) + 1), server=job.endpoint.name, at=job.clock.now(), repository=packing.name,
        edition=packing.edition, packing=job.kit.packing_sum, back=job.back, left_out=way.stays,
        rules=job.kit.rules_sum,
    )  # fmt: skip
    job.journal.open_run(opened)
    return opened


async def _carry_out(job: Job, controllers: RedfishControllers, opened: OpenedRun) -> Ended | None:
    name = job.endpoint.name

    def left(percent: int | None) -> float:
        tape = job.journal.tape(opened.run, name)
        now = job.clock.now()
        return seconds_left(job.journal.state(opened.run, name), tape[-1].at if tape else now, now, percent)

    ports = ConsolePorts(job.screen, job.keyboard, job.clock, job.folder / "errors.log", left)
    ports.overridden = job.overrides
    job.journal.heard = job.screen.entry
    is_asked = job.keyboard.is_there and job.order is None
    served = PayloadProcess(job.kit.store, os.urandom(32)) if job.serve else None
    world = World(
        controllers=controllers, journal=job.journal, clock=job.clock,
        payloads=StoredPayloads(job.kit.store, served), baseline=job.baseline, reporter=ports, orders=ports,
        helpers=ports, access=ConsoleAccess(job.endpoint, job.password_file, ports, asks=is_asked),
        remedies=_remedies(is_asked), patience=_patience(job.clock),
    )  # fmt: skip
    approved = frozenset(job.order.writes) if job.order is not None else None
    lane = RunServer(
        endpoint=job.endpoint,
        place=AwayPlace(server=name),
        back=job.back,
        approved=approved,
        on_sheet=frozenset(slot for slot, _ in approved or ()),
        left_before=_left(job),
        on_disc=job.on_disc,
    )
    with _stoppable(ports):
        try:
            if served is not None and job.serve is not None:
                await served.start(job.serve[0], 0, job.serve[1])
                await served.allow(opened.run, [name], {p.sha256 for p in job.kit.packing.payloads})
            await carry_out_run(opened.run, [lane], world)
        finally:
            job.screen.close()
            if served is not None:
                await served.stop()
    state = job.journal.state(opened.run, name)
    job.is_idle = state.is_idle
    return state.ended


def _remedies(is_asked: bool) -> dict[Any, Choice]:
    """As the house's usual ones; where nobody can be asked, what would be asked is not done."""
    return {r: c if is_asked or c is not Choice.ASK else Choice.NEVER for r, c in USUAL.items()}


def _patience(clock: SiteClock) -> Patience:
    # A fast clock must not make us knock at a controller more often than five times a real second.
    return Patience(
        poll_s=max(10.0, clock.rate * 0.2), settle_s=max(20.0, clock.rate * 0.2), unseen_s=max(120.0, clock.rate * 3.0)
    )


@contextlib.contextmanager
def _stoppable(ports: ConsolePorts) -> Iterator[None]:
    """The first interrupt stops before the next step; the second ends the program, which loses nothing."""
    loop, task = asyncio.get_running_loop(), asyncio.current_task()
    assert task is not None

    def interrupt() -> None:
        if ports.stopped.is_set():
            task.cancel()
        ports.stop()

    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, interrupt)
    try:
        yield
    finally:
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.remove_signal_handler(number)


def _show(job: Job, server: Server, way: Way) -> None:
    """What would be done, round by round, what it costs, and what stays as it is."""
    route = way.route
    stays = _stays(way)
    seconds = sum(map(round_seconds, way.rounds))
    size = sum(p.payload.size for p in way.writes if p.payload is not None)
    if job.as_json:
        rounds = [
            {"writes": [_write_row(p) for p in step.writes], "reset": step.reset, "seconds": round_seconds(step)}
            for step in way.rounds
        ]
        event(
            "plan", server=job.endpoint.name, model=server.model, rounds=rounds, outages=route.outages,
            restarts=route.restarts, power_cycles=route.power_cycles, seconds=seconds, bytes=size,
            proven=route.proven, stays=stays,
        )  # fmt: skip
        return
    click.echo(f"{job.endpoint.name}, {server.model}, from {job.kit.packing.name}, edition {job.kit.packing.edition}")
    rows = [
        (number, ", ".join(f"{p.write.slot} {p.write.source} → {p.write.to}" for p in step.writes) or "–",
         step.reset or "no reset")
        for number, step in enumerate(way.rounds, start=1)
    ]  # fmt: skip
    if rows:
        print_table(("round", "writes", "reset"), rows)
        fewest = "; fewer resets are not possible" if route.proven else ""
        resets = [_counted(route.outages, "outage"), _counted(route.restarts, "controller restart")]
        click.echo(f"About {tell_span(seconds)}: {', '.join(resets)}, {decimal(size)} to send{fewest}.")
    for slot, why in list(stays.items())[:MOST_SHOWN]:
        click.echo(f"{slot} stays: {why}")


def _stays(way: Way) -> dict[str, str]:
    """What is left as it is, by its slot, and why."""
    stays = {**way.stays, **{lost.slot: lost.reason for lost in way.route.stranded}}
    return dict(sorted(stays.items()))


def _counted(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"


def _write_row(planned: Any) -> dict[str, Any]:
    write, payload = planned.write, planned.payload
    return {
        "slot": write.slot, "product": write.product, "from": write.source, "to": write.to, "seconds": write.seconds,
        "sha256": payload.sha256 if payload is not None else None,
    }  # fmt: skip


def _tell_end(job: Job, ended: Ended | None) -> int:
    name = job.endpoint.name
    if ended is None:
        text = f"{name}: its journal could not be written to its end; started again, it goes on there"
    else:
        text = f"{name} is {ended.ending}: {tell_reason(ended.reason, ended.facts)}"
    is_good = ended is not None and ended.ending in GOOD
    job.said = "" if is_good else text
    if job.as_json:
        event("end", server=name, ending=ended.ending if ended else "", text=text)
    else:
        click.echo(text)
    return 0 if is_good else 1
