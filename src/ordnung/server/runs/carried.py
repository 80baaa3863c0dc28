"""What a field kit did without us, carried in: runs on record like any other, and readings.

A journal says of each run which server it was on, by what it read there. An entry that is here already is not taken
again: the same journal may be brought once more when it has grown. Nobody vouches for it but whoever brings it, and
their name stands in the audit trail.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.engine.entries import Ending, Entry, PlaceTaken, Plan, Read, TapeEntry
from ordnung.engine.entry_codec import VERSION, rounds_body, write_entry
from ordnung.engine.journal_lines import Journaled, OpenedRun
from ordnung.engine.tape import fold
from ordnung.formats.rules import rules_document
from ordnung.server.assessment.current import current_assessment
from ordnung.server.audit.recording import record, recorded
from ordnung.server.baselines.current import follows_rows
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import find_by_identity, store_reading, tell_nobody
from ordnung.server.runs.derived import load_tape, rebuild, write_found
from ordnung.server.runs.history import keep_durations
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.models import TapeEntry as TapeRow
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work

BY_KIT = "a field kit"


@dataclass(frozen=True, slots=True, kw_only=True)
class CarriedRunRow:
    """What became of one run of a journal: the run it is here, or why it was not taken."""

    server: str
    run: int | None
    told: str


@recorded()
def carry_in_journal(journal: Journaled, source: str) -> list[CarriedRunRow]:
    """Take the runs of a journal up, and the readings that are newer than those here; all of it or nothing."""
    found = []
    for opened in journal.runs:
        tape = journal.tape(opened.run, opened.server)
        why, row = _why_not(journal, opened, tape)
        if why or row is None:
            found.append(CarriedRunRow(server=row.name if row else opened.server, run=None, told=why))
        elif journal.state(opened.run, opened.server).ended is None:
            found.append(_take_readings(opened, tape, row))
        else:
            found.append(_take_up(opened, tape, row, source))
    taken = [row for row in found if row.run is not None]
    on = {"runs": [row.run for row in taken], "servers": sorted({row.server for row in taken})}
    record(on=on, after={"carried_in": source, "told": [f"{row.server}: {row.told}" for row in found]})
    return found


def _why_not(journal: Journaled, opened: OpenedRun, tape: Sequence[Entry]) -> tuple[str, Server | None]:
    """Why a run can't be taken up, empty when it can; and the server that it was on."""
    reading = next((entry.value.server for entry in tape if isinstance(entry.value, Read)), None)
    when = _when(opened)
    if reading is None:
        return f"{when} has read no server: nothing was done to any", None
    row = find_by_identity(reading)
    if row is None:
        return f"{tell_nobody(reading)}: add it, then bring the journal in again", None
    if TapeRow.objects.filter(server=row.name, seq=1, at=tape[0].at).exists():
        return f"{when} is on record already", row
    if RunServer.objects.filter(server=row, active=True).exists() or hasattr(row, "lease"):
        return f"{row.name} is in another run, or away, now: bring the journal in when that is over", row
    return "", row


def _when(opened: OpenedRun) -> str:
    return f"the run of {opened.at:%d %b %Y %H:%M} UTC"


def _take_readings(opened: OpenedRun, tape: Sequence[Entry], row: Server) -> CarriedRunRow:
    """Of a run that has not ended what was read counts; how it went is on record when it has."""
    readings = _keep_readings([_of_this_house(entry.value, row) for entry in tape], row)
    told = f"{_when(opened)} has not ended: start the field kit again, and bring the journal when it has"
    return CarriedRunRow(server=row.name, run=None, told=f"{told}; {_tell_readings(readings)}")


def _tell_readings(count: int) -> str:
    return f"{count} reading{'' if count == 1 else 's'} newer than the last one here"


def _take_up(opened: OpenedRun, tape: Sequence[Entry], row: Server, source: str) -> CarriedRunRow:
    run = _make_run(opened, tape, row)
    values = [_of_this_house(entry.value, row) for entry in tape]
    for entry, value in zip(tape, values, strict=True):
        kind, body = write_entry(value)
        TapeRow.objects.create(
            run=run, server=row.name, seq=entry.seq, at=entry.at, version=VERSION, kind=kind, body=body
        )
    rebuild([run])
    failed = run.servers.get().ended == Ending.FAILED
    Work.objects.create(
        kind="run", title=run.name, state=Work.State.FAILED if failed else Work.State.DONE, total=1, done=1,
        note=f"carried in from {source}", subject={"run": run.pk}, asked_at=opened.at, started_at=opened.at,
        ended_at=run.ended_at, seen=not failed,
    )  # fmt: skip
    keep_durations(run.pk, row.name, tape)
    readings = _keep_readings(values, row)
    if readings:
        write_found(row.name, fold(load_tape(run.pk, row.name)))
    tell("runs", id=run.pk)
    tell("work")
    return CarriedRunRow(server=row.name, run=run.pk, told=f"{len(tape)} entries, {_tell_readings(readings)}")


def _make_run(opened: OpenedRun, tape: Sequence[Entry], row: Server) -> Run:
    assessment = current_assessment()
    rounds = next((entry.value.rounds for entry in tape if isinstance(entry.value, Plan)), ())
    model = next(entry.value.server.model for entry in tape if isinstance(entry.value, Read))
    seconds = [p.write.seconds for step in rounds for p in step.writes] + [step.reset_seconds for step in rounds]
    run = Run.objects.create(
        name=f"{row.name} {'put back' if opened.back else 'brought level'} by {BY_KIT}",
        state=Run.State.ENDED,
        drafted_at=opened.at,
        drafted_by=BY_KIT,
        started_at=opened.at,
        started_by=BY_KIT,
        ended_at=tape[-1].at,
        planned_seconds=sum(taken or 0 for taken in seconds),
        revision=assessment.baseline.number,
        rules=rules_document(assessment.baseline.rules),
        follows=follows_rows(assessment.catalogs.freeze([model])),
        source=f"{opened.repository}, edition {opened.edition}, on {BY_KIT}"[:300],
    )
    RunServer.objects.create(
        run=run, server=row, place=0, group=row.group.name if row.group else "", rounds=rounds_body(rounds),
        back=dict(opened.back) if opened.back else None, left_out=dict(opened.left_out or {}), since=tape[-1].at,
    )  # fmt: skip
    return run


def _of_this_house(value: TapeEntry, row: Server) -> TapeEntry:
    """An entry with the name that the house has for its server."""
    if isinstance(value, Read):
        return dataclasses.replace(value, server=dataclasses.replace(value.server, name=row.name))
    if isinstance(value, PlaceTaken):
        return dataclasses.replace(value, place=dataclasses.replace(value.place, server=row.name))
    return value


def _keep_readings(values: Sequence[TapeEntry], row: Server) -> int:
    """Keep those readings that are newer than the last one here; how many that were."""
    newest = row.latest.read_at if row.latest is not None else None
    readings = (value.server for value in values if isinstance(value, Read))
    fresh = [r for r in readings if r.read_at is not None and (newest is None or r.read_at > newest)]
    for reading in fresh:
        store_reading(reading, None)
    return len(fresh)
