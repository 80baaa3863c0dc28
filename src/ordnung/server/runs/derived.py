"""What follows from tapes, kept as rows for queries: how servers and runs ended, and who holds a place.

Written in the transaction that adds an entry (``runs.journal``). Rebuilt from the tapes when the rows differ, at the
start of an engine or by ``manage.py rebuild_runs``.
"""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Collection, Iterable
from typing import Any

from django.db import transaction
from django.db.models import Max, QuerySet

from ordnung.core.away import AwayPlace
from ordnung.core.components import Server as ServerReading
from ordnung.core.sheet import has_outage
from ordnung.engine.entries import Asked, Entry, Read, Reason
from ordnung.engine.entry_codec import parse_rounds, read_entry
from ordnung.engine.tape import errand_key, fold
from ordnung.engine.tape_state import TapeState
from ordnung.engine.telling import tell_question, tell_reason
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Server
from ordnung.server.runs.history import keep_durations
from ordnung.server.runs.models import AwayLease, Run, RunServer, TapeEntry
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work


def load_tape(run: int, server: str) -> list[Entry]:
    """One tape. Raises TapeFormatError for an entry that can't be read."""
    rows = TapeEntry.objects.filter(run_id=run, server=server).order_by("seq")
    return [read_entry(row.seq, row.at, row.version, row.kind, row.body) for row in rows]


def load_tapes(run: Run) -> dict[str, list[Entry]]:
    """All tapes of a run, by server."""
    tapes: dict[str, list[Entry]] = {}
    for row in run.entries.order_by("server", "seq"):
        tapes.setdefault(row.server, []).append(read_entry(row.seq, row.at, row.version, row.kind, row.body))
    return tapes


def load_acts(run: Run, names: Collection[str] | None = None) -> dict[str, list[Entry]]:
    """The tapes of a run without readings and plans, which are most of their bytes: what the lanes are drawn from.

    Of the named servers, or of all.
    """
    tapes: dict[str, list[Entry]] = {}
    rows = run.entries.all() if names is None else run.entries.filter(server__in=names)
    for row in rows.exclude(kind__in=("read", "plan")).order_by("server", "seq"):
        tapes.setdefault(row.server, []).append(read_entry(row.seq, row.at, row.version, row.kind, row.body))
    return tapes


def load_ends(run: Run) -> dict[str, list[ServerReading]]:
    """The first and the last reading on every server's tape of a run: those between them are left where they are."""
    ends: dict[str, list[int]] = {}
    for pk, server in run.entries.filter(kind="read").order_by("seq").values_list("pk", "server"):
        known = ends.setdefault(server, [pk])
        ends[server] = [known[0], pk] if known[0] != pk else known
    found: dict[str, list[ServerReading]] = {}
    for row in TapeEntry.objects.filter(pk__in=[pk for both in ends.values() for pk in both]).order_by("seq"):
        value = read_entry(row.seq, row.at, row.version, row.kind, row.body).value
        if isinstance(value, Read):
            found.setdefault(row.server, []).append(value.server)
    return found


def place_values(state: TapeState, is_running: bool) -> dict[str, Any]:
    """What a tape says of a server's row in its run."""
    ended = state.ended
    if ended is None:
        asked = {"question": question_of(state), "question_kind": question_kind(state), "errand": errand_of(state)}
        return {"ended": "", "reason": "", "active": is_running, **asked}
    reason = tell_reason(ended.reason, ended.facts)
    if state.is_moved_off and ended.reason is not Reason.NOT_TAKEN_BACK:
        reason += " Its work is still elsewhere: take it back, then say that the server is back."
    return {
        "ended": str(ended.ending),
        "reason": reason,
        "active": False,
        "question": "",
        "question_kind": "",
        "errand": None,
    }


def question_of(state: TapeState) -> str:
    """What a person is asked about a server, in words; empty when nothing."""
    asked = _asked(state)
    return tell_question(asked) if asked is not None else ""


def question_kind(state: TapeState) -> str:
    """Which question that is; empty when nothing is asked."""
    asked = _asked(state)
    return str(asked.question) if asked is not None else ""


def _asked(state: TapeState) -> Asked | None:
    if state.ended is not None:
        return None
    if state.shut_out is not None:
        return state.shut_out
    return state.open_reset.question if state.open_reset is not None else state.asked


def errand_of(state: TapeState) -> dict[str, Any] | None:
    """What is asked for outside while a server waits; None when nothing."""
    pending = state.open_errand
    if pending is None or state.ended is not None:
        return None
    return {**dataclasses.asdict(pending.errand), "of": pending.of, "since": pending.since.isoformat()}


def derived_of(state: TapeState) -> tuple[object, ...]:
    """What of a tape the rows hold: they are written when it changes."""
    return state.place, state.ended, question_of(state), state.open_errand, state.waiting


def lease_values(state: TapeState) -> dict[str, Any] | None:
    """What a tape says of the place a server holds, or None when it holds none."""
    place = state.place
    if place is None:
        return None
    return {
        "groups": list(place.groups),
        "rack": place.rack,
        "room": place.room,
        "outage": place.outage,
        "ahead": place.ahead,
        "heals": place.heals,
        "kept": place.kept,
    }


def taken_places() -> list[AwayPlace]:
    """Who holds a place now, over all runs."""
    fields = ("groups", "rack", "room", "outage", "ahead", "kept", "heals")
    rows = AwayLease.objects.values("server__name", *fields)
    return [
        AwayPlace(server=row.pop("server__name"), **{**row, "groups": tuple(row["groups"])}) for row in map(dict, rows)
    ]


def healing_places() -> list[AwayPlace]:
    """Who is back, but counts in its group until that is whole again (T5, A13), where nobody says when that is."""
    longest = Group.objects.aggregate(longest=Max("heal_seconds"))["longest"] or 0
    if not longest:
        return []
    at = now()
    rows = RunServer.objects.exclude(ended="").filter(since__gt=at - datetime.timedelta(seconds=longest))
    by_time = rows.filter(server__group__heal_seconds__gt=0, server__group__healer="")
    return [
        AwayPlace(server=row.server.name, groups=(row.server.group.name,), heals=True)
        for row in by_time.select_related("server__group")
        if row.since is not None
        and row.server.group is not None
        and at - row.since < datetime.timedelta(seconds=row.server.group.heal_seconds)
        and has_outage(parse_rounds(row.rounds))
    ]


def write_derived(run: int, server: str, state: TapeState, at: datetime.datetime) -> None:
    """Bring the rows of one server up to its tape; to be called inside the transaction that adds the entry."""
    _write_lease(run, server, lease_values(state), at)
    row, question = RunServer.objects.filter(run_id=run, server__name=server), question_of(state)
    kind = question_kind(state)
    row.exclude(question=question).update(question=question, question_kind=kind, answer="", answered_by="")
    _write_errand(run, server, state, row)
    write_found(server, state)
    if state.ended is None:
        return
    values = place_values(state, is_running=True)
    shown = {"state": values["ended"], "detail": "", "percent": None, "since": at}
    row.exclude(ended=values["ended"]).update(**values, **shown)
    keep_durations(run, server, load_tape(run, server))
    write_run(run, at, f"{server}: {values['ended']}, {values['reason']}")


def write_found(server: str, state: TapeState) -> None:
    """What a tape tells of a server for all that comes after its run.

    It is what waits in it for a reset, once the tape knows what earlier runs have left, and that nothing can be named
    to its controller.
    """
    row = Server.objects.get(name=server)
    left = state.waiting if state.before is not None else row.left_writes
    by_image_at = state.no_targets_at or row.by_image_at
    if (row.left_writes, row.by_image_at) != (left, by_image_at):
        told = [dataclasses.asdict(write) for write in left]
        Server.objects.filter(pk=row.pk).update(left=told, by_image_at=by_image_at)
        tell("readings", servers=[server])


def _write_errand(run: int, server: str, state: TapeState, row: QuerySet[RunServer]) -> None:
    pending = state.open_errand
    key = errand_key(run, server, pending.seq) if pending is not None and state.ended is None else ""
    row.exclude(errand_key=key).update(errand=errand_of(state), errand_key=key, ticked_by="", tick_note="")


def write_run(run: int, at: datetime.datetime, note: str = "") -> None:
    """Bring a run and its work line up to how its servers ended; it has ended when all of them have."""
    places = list(RunServer.objects.filter(run_id=run).order_by("place").values_list("server__name", "ended"))
    ended = [name for name, how in places if how]
    failed = [name for name, how in places if how == "failed"]
    works = Work.objects.filter(kind="run", subject__run=run)
    if len(ended) < len(places):
        works.update(done=len(ended), **({"note": note} if note else {}))
        return
    if not Run.objects.end(run, at):
        return
    message = f"{len(places) - len(failed)} of {len(places)} done" + (
        f"; look at {', '.join(failed)}" if failed else ""
    )
    works.update(state=Work.State.FAILED if failed else Work.State.DONE, done=len(places), note=message, ended_at=at)


def _write_lease(run: int, server: str, values: dict[str, Any] | None, at: datetime.datetime) -> None:
    held = AwayLease.objects.filter(server__name=server, run_id=run)
    if values is None:
        held.delete()
    elif not held.update(**values):
        row = Server.objects.get(name=server)
        AwayLease.objects.create(server=row, run_id=run, since=at, **values)


def find_differences(runs: Iterable[Run]) -> list[tuple[Run, str]]:
    """Servers of runs whose rows say something else than their tapes."""
    found = []
    for run in runs:
        tapes = load_tapes(run)
        leases = {lease.server.name: lease for lease in AwayLease.objects.filter(run=run).select_related("server")}
        for place in run.servers.select_related("server"):
            name = place.server.name
            state = fold(tapes.get(name, ()))
            values = place_values(state, run.state == Run.State.RUNNING)
            held = leases.get(name)
            by_server = lease_values(state)
            have = None if held is None else {key: getattr(held, key) for key in by_server or {"kept": None}}
            if any(getattr(place, key) != value for key, value in values.items()) or have != by_server:
                found.append((run, name))
    return found


def rebuild(runs: Iterable[Run]) -> list[tuple[Run, str]]:
    """Write the rows anew where they differ from the tapes; returns what differed."""
    with transaction.atomic():
        different = find_differences(runs)
        for run, name in different:
            tape = load_tape(run.pk, name)
            state = fold(tape)
            at = tape[-1].at if tape else run.started_at or run.drafted_at
            values = place_values(state, run.state == Run.State.RUNNING)
            row = RunServer.objects.filter(run=run, server__name=name)
            row.update(**values)
            _write_errand(run.pk, name, state, row)
            _write_lease(run.pk, name, lease_values(state), at)
        for run in {run.pk: run for run, _ in different}.values():
            if run.state == Run.State.RUNNING:
                last = run.entries.order_by("-at").first()
                write_run(run.pk, last.at if last else run.drafted_at)
    return different


def rebuild_all() -> list[tuple[Run, str]]:
    """As ``rebuild``, for every run that was ever started; also ends runs all of whose servers have ended."""
    started = list(Run.objects.exclude(state=Run.State.DRAFT))
    different = rebuild(started)
    for run in started:
        if run.state == Run.State.RUNNING:
            last = run.entries.order_by("-at").first()
            write_run(run.pk, last.at if last else run.drafted_at)
    return different
