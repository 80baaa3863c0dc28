"""A run on record: from its tapes, its sheet and the audit trail; as values, and as the page shows it."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.conf import settings

from ordnung.core.assessment import Standing, assess_fleet
from ordnung.core.components import Component
from ordnung.core.components import Server as ServerReading
from ordnung.core.departures import find_departures
from ordnung.core.history import compare_readings
from ordnung.core.run_record import (
    ApprovalRecord,
    ComponentRecord,
    Foretold,
    OutsideRecord,
    OverrideRecord,
    PersonRecord,
    RemedyRecord,
    RoundRecord,
    RunRecord,
    ServerRecord,
    good_forecasts,
    summarise,
)
from ordnung.core.surroundings import find_changes_around
from ordnung.engine.account import away_seconds, outside_of, remedies_of, rounds_of, tell_tape
from ordnung.engine.entries import Confirmed, Ended, Ending, Entry, PlaceTaken
from ordnung.engine.entry_codec import parse_rounds
from ordnung.formats.record import RecordFile, sign_record, write_record
from ordnung.server.assessment.current import current_assessment
from ordnung.server.assessment.present import CellRow, glyph_row
from ordnung.server.audit.heads import site_key
from ordnung.server.audit.models import TrailEntry
from ordnung.server.audit.trail import subject
from ordnung.server.baselines.current import read_follows, read_rules
from ordnung.server.clock import now
from ordnung.server.runs.approvals import approvals_of
from ordnung.server.runs.derived import load_acts, load_ends, load_tapes
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.rows import RunSummaryRow, summary
from ordnung.server.runs.way_back import FLOOR, NOTHING_ON_IT, way_back_version
from ordnung.server.shapes import row_from

LAST_FORECASTS = 20
"""So many past runs tell how good forecasts are."""


@dataclass(frozen=True, slots=True, kw_only=True)
class DoneRow:
    """An update that was confirmed, and to what it can be taken back now, or why it can't be."""

    slot: str
    name: str
    before: str | None
    after: str
    back_to: str | None
    barred: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RecordServerRow:
    """One server of a record.

    ``differences``: what is otherwise than before and was not the run's doing. ``departures``: in what it went
    otherwise than its sheet said.
    """

    server: str
    wave: str
    ended: str
    reason: str
    before: list[CellRow]
    after: list[CellRow]
    done: list[DoneRow]
    rounds: list[RoundRecord]
    remedies: list[RemedyRecord]
    outside: list[OutsideRecord]
    resets: int
    planned_seconds: float
    took_seconds: float
    away_seconds: float
    differences: list[str]
    departures: list[str]
    announced: list[str]
    overrides: list[OverrideRecord]


@dataclass(frozen=True, slots=True, kw_only=True)
class RecordRow(RunSummaryRow):
    """``summary``: the run in a few sentences. ``forecasts_kept`` of the last ``forecasts`` runs that were foretold."""

    summary: list[str]
    foretold: Foretold | None
    forecasts_kept: int
    forecasts: int
    approvals: list[ApprovalRecord]
    people: list[PersonRecord]
    servers: list[RecordServerRow]


def record_row(run: Run) -> RecordRow:
    """A run as the page of its record has it."""
    places = list(run.servers.select_related("server"))
    acts, ends = load_acts(run), load_ends(run)
    whole = _record(run, places, acts, ends)
    kept, of = good_forecasts(_past_forecasts())
    return row_from(
        RecordRow,
        summary(run, places),
        summary=list(summarise(whole)),
        foretold=whole.foretold,
        forecasts_kept=kept,
        forecasts=of,
        approvals=list(whole.approvals),
        people=list(whole.people),
        servers=[
            _server_row(run, record, acts.get(record.server, []), ends.get(record.server, ()))
            for record in whole.servers
        ],
    )


def run_record(run: Run) -> RunRecord:
    """A run as it goes into a file: with every entry of its tapes."""
    places = list(run.servers.select_related("server"))
    tapes = load_tapes(run)
    record = _record(run, places, tapes, load_ends(run))
    told = (dataclasses.replace(s, tape=tell_tape(tapes.get(s.server, ()))) for s in record.servers)
    return dataclasses.replace(record, servers=tuple(told))


def record_file(run: Run) -> bytes:
    """``ordnung.record/1`` of a run that was started, signed with the site's key."""
    file: RecordFile = sign_record(settings.SITE, run_record(run), site_key())
    return write_record(file)


def standings_at(run: Run, *, after: bool) -> list[Standing]:
    """Where each server stood by its first or by its last reading in a run, under the baseline of the run."""
    found = []
    for ends in load_ends(run).values():
        found += _assess(run, [ends[-1 if after else 0]])
    return sorted(found, key=lambda standing: standing.server.name)


def _record(
    run: Run,
    places: Sequence[RunServer],
    acts: Mapping[str, Sequence[Entry]],
    ends: Mapping[str, Sequence[ServerReading]],
) -> RunRecord:
    revision = run.revisions.last()
    return RunRecord(
        number=run.pk,
        name=run.name,
        drafted_by=run.drafted_by,
        drafted_at=_instant(run.drafted_at),
        started_by=run.started_by,
        started_at=_instant(run.started_at or run.drafted_at),
        ended_at=None if run.ended_at is None else _instant(run.ended_at),
        baseline=run.revision,
        payloads=run.source,
        sheet_sha256=revision.sha256 if revision is not None else "",
        takes_back=run.takes_back_id,
        planned_seconds=run.planned_seconds,
        planned_resets=sum(step["reset"] is not None for place in places for step in place.rounds),
        foretold=None if run.foretold is None else Foretold(**run.foretold),
        approvals=tuple(ApprovalRecord(by=a.by, at=_instant(a.at), sha256=a.sha256) for a in approvals_of(run)),
        people=people_of(run),
        servers=tuple(_server(run, p, acts.get(p.server.name, ()), ends.get(p.server.name, ())) for p in places),
    )


def _instant(moment: datetime.datetime) -> datetime.datetime:
    return moment.astimezone(datetime.UTC)


def _server(run: Run, place: RunServer, acts: Sequence[Entry], ends: Sequence[ServerReading]) -> ServerRecord:
    announced = sorted({t for step in parse_rounds(place.rounds) for p in step.writes for t in p.announces})
    reading = ends[-1] if ends else None
    rounds = rounds_of(acts)
    return ServerRecord(
        server=place.server.name,
        model=reading.model if reading else "",
        serial=reading.serial if reading else None,
        group=place.group,
        room=place.server.room,
        rack=place.server.rack,
        unit=place.server.unit,
        wave=place.wave,
        ended=place.ended,
        reason=place.reason,
        planned_seconds=_planned_s(place),
        took_seconds=_took(acts),
        away_seconds=away_seconds(acts),
        before=_components(ends[0]) if ends else (),
        after=_components(ends[-1]) if ends else (),
        rounds=rounds,
        remedies=remedies_of(acts),
        outside=outside_of(acts),
        differences=tuple(_differences(acts, ends, frozenset(announced))),
        announced=tuple(announced),
        overrides=tuple(OverrideRecord(check=c, reason=r) for c, r in sorted(place.overrides.items())),
        tape=(),
        departures=_departures(run, place, acts, rounds),
    )


def _planned_s(place: RunServer) -> float:
    return float(place.lane[-1]["end"] - place.lane[0]["start"]) if place.lane else 0.0


def _departures(run: Run, place: RunServer, acts: Sequence[Entry], rounds: Sequence[RoundRecord]) -> tuple[str, ...]:
    """Of a server that has ended; who was left out, or is under way, departs from nothing yet."""
    if not place.ended or place.ended == Ending.LEFT_OUT or not place.lane or run.started_at is None:
        return ()
    came = next((entry.at for entry in acts if isinstance(entry.value, PlaceTaken)), None)
    begin = None if came is None else (float(place.lane[0]["start"]), (came - run.started_at).total_seconds())
    return find_departures(parse_rounds(place.rounds), rounds, begin, (_planned_s(place), _took(acts)))


def _took(acts: Sequence[Entry]) -> float:
    """From its turn to its end, or to what was last heard of it."""
    began = next((entry.at for entry in acts if isinstance(entry.value, PlaceTaken)), None)
    ended = next((entry.at for entry in acts if isinstance(entry.value, Ended)), acts[-1].at if acts else None)
    return (ended - began).total_seconds() if began is not None and ended is not None else 0.0


def _components(reading: ServerReading) -> tuple[ComponentRecord, ...]:
    return tuple(
        ComponentRecord(slot=c.slot, name=c.name, version=c.version, serial=c.serial) for c in reading.components
    )


def _differences(acts: Sequence[Entry], ends: Sequence[ServerReading], announced: frozenset[str]) -> list[str]:
    """What is otherwise in the last reading than in the first, but for what the run wrote and what was announced."""
    if len(ends) < 2:
        return []
    before, after = ends
    written = {slot for slot, _ in _confirmed(acts)}
    if any(isinstance(entry.value, Ended) and entry.value.ending is Ending.WAITS for entry in acts):
        written |= {w.slot for step in rounds_of(acts) for w in step.writes if w.result == "written"}
    changes = [
        change
        for change in compare_readings(before, after)
        if change.what != "health" and not (change.slot in written and change.what in ("version", "waiting", "state"))
    ]
    told = [f"{c.name} in {c.slot}: {c.what}, {c.before or 'nothing'} → {c.after or 'nothing'}" for c in changes]
    return [*told, *find_changes_around(before, after, announced)]


def people_of(run: Run) -> tuple[PersonRecord, ...]:
    """What people did to a run, and what they were refused, from the audit trail."""
    rows = TrailEntry.objects.filter(subjects__contains=subject("run", run.pk)).order_by("number")
    return tuple(_person(row) for row in rows)


def _person(row: TrailEntry) -> PersonRecord:
    is_refused = row.result != "done"
    servers = row.on.get("servers", row.on.get("server", []))
    return PersonRecord(
        at=_instant(row.at),
        who=row.who,
        what=row.command,
        servers=tuple(servers if isinstance(servers, list) else [str(servers)]),
        detail=row.detail if is_refused else _told(row.after),
        refused=is_refused,
    )


_TOLD = ("order", "check", "answer", "reason", "wave", "group", "not_before", "until", "ends", "note", "ticked", "seen")
"""What of an entry is told beside its command, where it has it."""


def _told(after: Mapping[str, Any]) -> str:
    return ", ".join(str(after[name]) for name in _TOLD if after.get(name))


def _past_forecasts() -> list[tuple[float, float]]:
    """(seconds taken, seconds foretold with nine in ten) of the last runs that ended and were foretold."""
    ended = Run.objects.filter(state=Run.State.ENDED, foretold__isnull=False).order_by("-ended_at")[:LAST_FORECASTS]
    return [
        ((run.ended_at - run.started_at).total_seconds(), float(run.foretold["p90"]))
        for run in ended
        if run.ended_at is not None and run.started_at is not None and run.foretold is not None
    ]


# The page


def _server_row(
    run: Run, record: ServerRecord, acts: Sequence[Entry], ends: Sequence[ServerReading]
) -> RecordServerRow:
    group = record.group or None
    standings = _assess(run, [dataclasses.replace(reading, group=group) for reading in ends])
    return row_from(
        RecordServerRow,
        record,
        before=glyph_row(standings[0]) if standings else [],
        after=glyph_row(standings[-1]) if standings else [],
        done=_done_rows(record.server, _confirmed(acts), ends[0] if ends else None),
        rounds=list(record.rounds),
        remedies=list(record.remedies),
        outside=list(record.outside),
        resets=sum(reset.back is not None for step in record.rounds for reset in step.resets),
        differences=list(record.differences),
        departures=list(record.departures),
        announced=list(record.announced),
        overrides=list(record.overrides),
    )


def _assess(run: Run, readings: Sequence[ServerReading]) -> list[Standing]:
    catalogs = current_assessment().catalogs.following(read_follows(run.follows))
    return list(assess_fleet(readings, catalogs, read_rules(run.rules), now().date()))


def _confirmed(acts: Sequence[Entry]) -> list[tuple[str, str]]:
    """(slot, version) of everything that was confirmed, in order."""
    return [pair for entry in acts if isinstance(entry.value, Confirmed) for pair in entry.value.versions]


def _done_rows(name: str, done: Sequence[tuple[str, str]], before: ServerReading | None) -> list[DoneRow]:
    standing = current_assessment().standings.get(name)
    rows = []
    for slot, version in dict(done).items():
        old = before.component(slot) if before else None
        now_at = standing.server.component(slot) if standing else None
        back, barred = None, ""
        if standing is not None and now_at is not None and old is not None:
            passed = [v for s, v in done if s == slot]
            back, barred = _way_back(standing, slot, old, passed, version)
        stood = old.standing if old else ""
        rows.append(
            DoneRow(
                slot=slot, name=now_at.name if now_at else slot, before=stood or None, after=version,
                back_to=back, barred=barred,
            )
        )  # fmt: skip
    return rows


def _way_back(
    standing: Standing, slot: str, before: Component, passed: Sequence[str], version: str
) -> tuple[str | None, str]:
    """To what an update can be taken back now, or why it can't."""
    if before.is_empty:
        return None, NOTHING_ON_IT
    back = way_back_version(standing, slot, before.version, passed)
    component = standing.server.component(slot)
    if back is None:
        return None, FLOOR
    if component is not None and component.version != version:
        return None, f"it is at {component.version} now"
    return back, ""
