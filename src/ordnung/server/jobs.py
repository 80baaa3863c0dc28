"""The work the engine does for the server: survey, pack, run and others. Load, call the engine, store."""

from __future__ import annotations

from collections import Counter
from collections.abc import Awaitable, Callable
from dataclasses import asdict

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import transaction

from ordnung.controllers import Endpoint
from ordnung.core.by_disc import is_by_disc
from ordnung.core.sheet import has_outage
from ordnung.engine.entry_codec import parse_rounds
from ordnung.engine.payloads import StoredPayloads
from ordnung.engine.run import RunServer as Lane
from ordnung.engine.run import carry_out_run
from ordnung.engine.survey import Surveyed, survey
from ordnung.engine.world import Patience, World
from ordnung.server.assessment.current import load_catalogs
from ordnung.server.audit.heads import sign_head
from ordnung.server.audit.trail import append
from ordnung.server.baselines.current import read_follows, read_rules
from ordnung.server.catalogs.fetching import do_catalogs
from ordnung.server.clock import now
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.fleet.finding import do_reach, do_search
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import store_failure
from ordnung.server.fleet.rows import failure_row
from ordnung.server.house.settings import house, remedies, remedy_exceptions
from ordnung.server.repositories.in_jobs import do_carry_in
from ordnung.server.repositories.out_jobs import do_check, do_look_over, do_write_out
from ordnung.server.repositories.packing_job import do_pack
from ordnung.server.repositories.payloads import open_store
from ordnung.server.runs.access import FleetAccess
from ordnung.server.runs.adapters import (
    CurrentBaseline,
    DatabaseOrders,
    DatabaseReporter,
    keep_reading,
)
from ordnung.server.runs.approvals import approved_writes, planned_slots
from ordnung.server.runs.by_disc import disc_file, order_mark, run_disc
from ordnung.server.runs.derived import write_run
from ordnung.server.runs.helpers import DatabaseHelpers
from ordnung.server.runs.layout import moves_of, place_of
from ordnung.server.runs.models import Run
from ordnung.server.runs.next_start import do_start
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.progress import add_done, bump, fail, succeed
from ordnung.store import RunDisc

Job = Callable[[Work, EnginePorts], Awaitable[None]]


def endpoints(names: list[str]) -> list[Endpoint]:
    """Endpoints of servers by name; those with unreadable credentials raise ValueError."""
    return [row.endpoint() for row in Server.objects.filter(name__in=names).order_by("rack", "-unit", "name")]


async def do_survey(work: Work, ports: EnginePorts) -> None:
    """Read the servers of a survey."""
    names: list[str] = work.subject["servers"]
    read_before, failures = await sync_to_async(_already)(work, names)
    gone = {failure["server"] for failure in failures}
    left = [name for name in names if name not in read_before and name not in gone]
    await sync_to_async(bump)(work, done=len(names) - len(left), failures=failures)

    async def report(result: Surveyed) -> None:
        await sync_to_async(_store_surveyed)(work, result, failures)

    read = len(read_before)
    read += await survey(await sync_to_async(endpoints)(left), ports.controllers, settings.CLOCK, report)
    note = f"{read} of {len(names)} read" if failures else f"{read} read"
    await sync_to_async(fail if failures else succeed)(work, note)


def _already(work: Work, names: list[str]) -> tuple[set[str], list[dict[str, str]]]:
    """What a survey had done before the engine was killed: servers read, and failures, since it was asked for."""
    rows = list(Server.objects.filter(name__in=names).select_related("latest"))
    read = {r.name for r in rows if r.latest and r.latest.read_at >= work.asked_at and r.cause is None}
    failures = [failure_row(r) for r in rows if r.cause and r.failed_at and r.failed_at >= work.asked_at]
    return read, [asdict(row) for row in failures if row is not None]


def _store_surveyed(work: Work, result: Surveyed, failures: list[dict[str, str]]) -> None:
    with transaction.atomic():
        if result.server is not None:
            keep_reading(result.server, result.pin)
        elif result.error is not None:
            failures.append(asdict(store_failure(result.name, result.error)))
            Work.objects.filter(pk=work.pk).update(failures=failures)
        add_done(work, 1)


async def do_run(work: Work, ports: EnginePorts) -> None:
    """Carry out a run, or go on with it. How it ends stands in its rows with the last entry of its tapes."""
    run = await Run.objects.select_related("disc").aget(pk=work.subject["run"])
    name = str(run.pk)
    lanes, world, sums, disc = await sync_to_async(_prepare)(run, ports)
    await ports.payloads.allow(name, [lane.endpoint.name for lane in lanes], sums, disc)
    try:
        ended = await carry_out_run(name, lanes, world, order=run.pk)
        await sync_to_async(_close)(run)
    finally:
        ports.payloads.close_run(name)
    left = sorted(server for server, how in ended.items() if not how)
    if left:
        message = f"{', '.join(left)}: its tape could not be written to its end. Started again, Ordnung goes on there."
        await sync_to_async(fail)(work, message)
    else:
        await sync_to_async(write_run)(run.pk, now())
        await sync_to_async(tell)("work", id=work.pk)


def _close(run: Run) -> None:
    """Put the end of a run on the audit trail, and sign it."""
    endings = Counter(run.servers.values_list("ended", flat=True))
    names = list(run.servers.values_list("server__name", flat=True))
    append(who="Ordnung", where="engine", command="end a run", on={"run": run.pk, "servers": names}, after=endings)
    sign_head(f"run {run.pk} ended")


def _prepare(run: Run, ports: EnginePorts) -> tuple[list[Lane], World, set[str], RunDisc | None]:
    catalogs = load_catalogs(read_follows(run.follows))
    places = list(run.servers.select_related("server", "server__group").filter(ended=""))
    is_approved = run.approvals.exists()
    lanes = [
        Lane(
            endpoint=p.server.endpoint(),
            place=place_of(p.server, has_outage(parse_rounds(p.rounds)), p.group),
            back=p.back,
            approved=approved_writes(p) if is_approved else None,
            on_sheet=planned_slots(p),
            left_before=p.server.left_writes,
            moves=moves_of(p.server.group),
            ahead=run.ahead == "writing",
            unattended=run.unattended,
            by_disc=is_by_disc(parse_rounds(p.rounds)),
            order_mark=order_mark(run, p.server.name),
        )
        for p in places
    ]
    groups = {p.server.name: p.group or None for p in places}
    store = open_store()
    rate = settings.CLOCK.rate
    world = World(
        controllers=ports.controllers,
        journal=ports.journal,
        clock=settings.CLOCK,
        payloads=StoredPayloads(store, ports.payloads, disc_file(run)),
        baseline=CurrentBaseline(
            catalogs, read_rules(run.rules), groups, {p.server.name: p.left_out for p in places if p.left_out}
        ),
        reporter=DatabaseReporter(),
        orders=DatabaseOrders(),
        helpers=DatabaseHelpers(),
        access=FleetAccess(),
        remedies=remedies(house()),
        exceptions=remedy_exceptions(house()),
        # A fast clock must not make us knock at a controller more often than five times a real second.
        patience=Patience(
            poll_s=max(10.0, rate * 0.2),
            settle_s=max(20.0, rate * 0.2),
            unseen_s=max(120.0, rate * 3.0),
            # The kit of a stand-in begins in real time, however fast the clock runs.
            disc_s=max(3000.0, rate * 60.0),
            may_force=settings.MAY_FORCE_RESTART,
            errand_s=house().patience_minutes * 60.0,
        ),
        site=ports.site,
    )
    return lanes, world, set(store.sums()), run_disc(run, places)


jobs: dict[str, Job] = {
    "survey": do_survey,
    "pack": do_pack,
    "write-out": do_write_out,
    "carry-in": do_carry_in,
    "check": do_check,
    "look-over": do_look_over,
    "start": do_start,
    "run": do_run,
    "search": do_search,
    "reach": do_reach,
    "catalogs": do_catalogs,
}
