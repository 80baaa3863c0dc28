"""Runs as the API gives them: one in a row, whole with its lanes, and as a record."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from ordnung.core.night.waits import Wait
from ordnung.core.run_sheet import HandsOn
from ordnung.core.sheet import DiscPart, PlannedWrite
from ordnung.core.turn import WaveStand
from ordnung.engine.entries import Entry
from ordnung.engine.entry_codec import parse_rounds, read_entry
from ordnung.engine.telling import tell_entry
from ordnung.server.assessment.present import StrandedRow
from ordnung.server.house.settings import house
from ordnung.server.runs.again import StaleServerRow, stale_rows
from ordnung.server.runs.approvals import ApprovalRow, approval_rows
from ordnung.server.runs.by_disc import SheetDiscRow, disc_row, discs
from ordnung.server.runs.derived import load_acts
from ordnung.server.runs.models import Run, RunServer, TapeEntry
from ordnung.server.runs.sheets import MissingRow, what_is_missing
from ordnung.server.runs.story import SpanRow, tell_steps
from ordnung.server.runs.ticks import ErrandRow, errand_row
from ordnung.server.runs.turns import wave_begins, wave_stands, whole_stand
from ordnung.server.shapes import one_of, row_from
from ordnung.server.work.events import newest_event


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetWriteRow:
    slot: str
    product: str
    source: str
    to: str
    sha256: str
    size: int
    issue: str
    identity: str
    announces: list[str]
    """What its releases say that they change around the versions: no surprise in the check after."""
    disc: str = one_of(("", *DiscPart))
    """What it is to the disc by which the sheet goes; empty where it goes by none."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetRoundRow:
    writes: list[SheetWriteRow]
    reset: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class OverriddenRow:
    check: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class HandsOnRow(HandsOn):
    """A step that needs a person at the server."""


@dataclass(frozen=True, slots=True, kw_only=True)
class WaitRow(Wait):
    """A gap of a planned lane, in seconds as its steps, and what is waited for."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RunServerRow:
    server: str
    group: str
    room: str
    rack: str
    wave: str
    not_before: datetime.datetime | None
    pinned: bool
    hold: bool
    rounds: list[SheetRoundRow]
    stranded: list[StrandedRow]
    plan: list[SpanRow]
    waits: list[WaitRow]
    happened: list[SpanRow]
    state: str
    detail: str
    stopping: str
    question: str
    question_kind: str
    answer: str
    overrides: list[OverriddenRow]
    hands: list[HandsOnRow]
    errand: ErrandRow | None
    percent: int | None
    since: datetime.datetime | None
    ended: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class WaveRow:
    """A wave: how many go in it and have ended, what is waited for after it, and whether it asks a person now."""

    name: str
    wait_seconds: float
    gate: Literal["none", "person"]
    not_before: datetime.datetime | None
    """A person's wish: none of it begins earlier."""
    servers: int
    ended: int
    troubled: list[str]
    asks: bool
    has_failed: bool
    """So many of it failed that the rest of it does not start by itself."""
    opened_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetWindowRow:
    start: datetime.datetime
    end: datetime.datetime
    name: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RunSummaryRow:
    id: int
    name: str
    state: Literal["draft", "running", "ended"]
    order: Literal["go", "hold", "stop"]
    takes_back: int | None
    drafted_at: datetime.datetime
    drafted_by: str
    started_at: datetime.datetime | None
    started_by: str
    ended_at: datetime.datetime | None
    planned_seconds: float
    bound_seconds: float
    count: int
    finished: int
    failed: int
    asking: int
    source: str
    updates: int
    outages: int
    restarts: int
    proven: bool
    """Whether fewer resets are possible for none of its servers."""
    by_disc: bool
    """Each of its servers is brought level by a disc that it is started from, away from then to its end."""
    gap: int
    """By how many outages it may be above the fewest possible at most, where that is not proven."""
    revision: int


@dataclass(frozen=True, slots=True, kw_only=True)
class RunRow(RunSummaryRow):
    event: int
    """As of which event of the site: what was told up to it is in here."""
    servers: list[RunServerRow]
    missing: list[MissingRow]
    waves: list[WaveRow]
    windows: list[SheetWindowRow]
    too_many_failed: bool
    """Of a sheet without waves so many failed that the others wait until a person lets them go on."""
    certainty: float | None
    ahead: Literal["nothing", "writing"]
    """What may be done before the window and the wave."""
    unattended: bool
    """Its reboots are left to whenever they come."""
    disc: SheetDiscRow | None
    """The disc image by which it is brought; None: by no disc."""
    discs: list[SheetDiscRow]
    """Of a draft: the images by which it could be brought."""
    lanes_from: datetime.datetime | None
    """The moment from which the lanes' seconds count; None: from whenever it is started."""
    sheet: int
    """The number of the sheet's revision."""
    sha256: str
    """The sum of that revision, by which it is approved."""
    approvals: list[ApprovalRow]
    wants_approval: bool
    """Whether the house wants it approved before it starts."""
    stale: list[StaleServerRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class EntryRow:
    seq: int
    server: str
    at: datetime.datetime
    kind: str
    text: str


OUTAGES = ("server reboot", "power cycle")


def summary(run: Run, places: list[RunServer] | None = None) -> RunSummaryRow:
    """A run in one row."""
    places = list(run.servers.select_related("server")) if places is None else places
    planned = [_planned(place) for place in places]
    by_disc = any(one.starts_disc for one in planned)
    return row_from(
        RunSummaryRow,
        run,
        takes_back=run.takes_back_id,
        count=len(places),
        finished=sum(bool(p.ended) for p in places),
        failed=sum(p.ended == "failed" for p in places),
        asking=sum(is_asking(p) for p in places),
        updates=sum(one.updates for one in planned),
        outages=sum(one.outages - (one.into_disc if by_disc else 0) for one in planned),
        by_disc=by_disc,
        restarts=sum(one.restarts for one in planned),
        proven=all(place.proven for place in places),
        gap=sum(place.gap for place in places),
    )


@dataclass(frozen=True, slots=True)
class _Planned:
    """What the rounds of one server come to. ``into_disc``: outages into a disc, which are one with that out of it."""

    rounds: list[Any]
    updates: int
    outages: int
    into_disc: int
    restarts: int
    starts_disc: bool


def _planned(place: RunServer) -> _Planned:
    """Counted once for as long as these are its rounds: of a run under way they are asked for at every event."""
    known: _Planned | None = place.__dict__.get("_planned")
    if known is not None and known.rounds is place.rounds:
        return known
    writes = [write for step in place.rounds for write in step["writes"]]
    away = [step for step in place.rounds if step["reset"] in OUTAGES]
    found = _Planned(
        rounds=place.rounds,
        updates=sum(not write.get("sets_up") and write.get("disc") in (None, DiscPart.KIT) for write in writes),
        outages=len(away),
        into_disc=sum(map(_starts_disc, away)),
        restarts=sum(step["reset"] == "controller restart" for step in place.rounds),
        starts_disc=bool(place.rounds) and _starts_disc(place.rounds[0]),
    )
    place.__dict__["_planned"] = found
    return found


def _starts_disc(step: Mapping[str, Any]) -> bool:
    """As ``PlannedRound.starts_disc``; into a disc and out of it are one outage."""
    return any(write.get("disc") == DiscPart.IN for write in step["writes"])


def is_asking(place: RunServer) -> bool:
    """Whether a person is asked something about a server, or to do something for it."""
    waits_for_tick = place.errand is not None and not place.errand["of"] and not place.ticked_by
    return (bool(place.question) and not place.answer) or waits_for_tick


def run_row(run: Run) -> RunRow:
    """A run with its lanes, plan and what happened."""
    event = newest_event()
    places = list(run.servers.select_related("server"))
    acts = load_acts(run) if run.started_at else {}
    lanes = [lane_row(run, place, acts.get(place.server.name, ())) for place in places]
    return with_lanes(run, places, lanes, approval_rows(run), event)


def with_lanes(
    run: Run, places: list[RunServer], lanes: list[RunServerRow], approvals: list[ApprovalRow], event: int
) -> RunRow:
    """A run whose lanes are made already, as of an event that was read before them."""
    last = run.revisions.only("number", "sha256").last()
    return row_from(
        RunRow,
        summary(run, places),
        event=event,
        waves=[_wave_row(run, stand, places) for stand in wave_stands(run, places)],
        windows=[_window_row(window) for window in run.windows],
        too_many_failed=_too_many_failed(run, places),
        certainty=run.certainty,
        ahead=run.ahead,
        unattended=run.unattended,
        disc=disc_row(run.disc) if run.disc is not None else None,
        discs=discs() if run.state == Run.State.DRAFT else [],
        lanes_from=run.started_at or (run.lanes_from if run.windows else None),
        sheet=last.number if last is not None else 0,
        sha256=last.sha256 if last is not None else "",
        approvals=approvals,
        wants_approval=run.state == Run.State.DRAFT and house().approval,
        stale=stale_rows(run, places),
        servers=lanes,
        missing=what_is_missing(run) if run.state == Run.State.DRAFT else [],
    )


def _window_row(window: dict[str, str]) -> SheetWindowRow:
    start, end = (datetime.datetime.fromisoformat(window[key]) for key in ("start", "end"))
    return SheetWindowRow(start=start, end=end, name=window["name"])


def _wave_row(run: Run, stand: WaveStand, places: Sequence[RunServer]) -> WaveRow:
    members = [place for place in places if place.wave == stand.name]
    wave = next(wave for wave in run.waves if wave["name"] == stand.name)
    return WaveRow(
        name=stand.name,
        wait_seconds=float(wave["wait_seconds"]),
        gate=wave["gate"],
        not_before=wave_begins(wave),
        servers=len(members),
        ended=sum(bool(place.ended) for place in members),
        troubled=list(stand.troubled),
        asks=run.state == Run.State.RUNNING and bool(members) and _asks(run, stand),
        has_failed=stand.has_failed and bool(stand.working),
        opened_by=run.opened.get(stand.name, {}).get("by", ""),
    )


def _too_many_failed(run: Run, places: Sequence[RunServer]) -> bool:
    if run.waves or run.state != Run.State.RUNNING:
        return False
    stand = whole_stand(run, places)
    return stand.has_failed and bool(stand.working)


def _asks(run: Run, stand: WaveStand) -> bool:
    """After the last wave there is nobody to let go, but for the rest of it."""
    is_last = stand.name == run.waves[-1]["name"]
    return stand.asks and (not is_last or (stand.has_failed and bool(stand.working)))


def lane_row(run: Run, place: RunServer, acts: Sequence[Entry]) -> RunServerRow:
    """One server of a run: what is planned, and by its tape what happened."""
    return row_from(
        RunServerRow,
        place,
        server=place.server.name,
        room=place.server.room,
        rack=place.server.rack,
        rounds=planned_rows(place),
        stranded=[StrandedRow(**lost) for lost in place.stranded],
        plan=[SpanRow(**span) for span in place.lane],
        waits=[WaitRow(**wait) for wait in place.waits],
        happened=tell_steps(acts, run.started_at) if run.started_at else [],
        overrides=override_rows(place),
        hands=[HandsOnRow(**step) for step in place.hands],
        errand=errand_row(place),
    )


def planned_rows(place: RunServer) -> list[SheetRoundRow]:
    """The rounds of one server with what each write sends."""
    return [
        SheetRoundRow(writes=[_write_row(place, planned) for planned in step.writes], reset=step.reset)
        for step in parse_rounds(place.rounds)
    ]


def _write_row(place: RunServer, planned: PlannedWrite) -> SheetWriteRow:
    write, payload = planned.write, planned.payload
    return row_from(
        SheetWriteRow,
        write,
        sha256=payload.sha256 if payload else "",
        size=payload.size if payload else 0,
        issue=f"{payload.maker} {payload.issue}" if payload else "",
        identity=place.identities.get(f"{write.slot} {write.to}", ""),
        announces=list(planned.announces),
        disc=planned.disc or "",
    )


def override_rows(place: RunServer) -> list[OverriddenRow]:
    """The checks that a person has overridden for a server, with their reasons."""
    return [OverriddenRow(check=check, reason=reason) for check, reason in sorted(place.overrides.items())]


def entry_row(row: TapeEntry) -> EntryRow:
    """One entry of a tape in words."""
    return row_from(EntryRow, row, text=tell_entry(read_entry(row.seq, row.at, row.version, row.kind, row.body).value))
