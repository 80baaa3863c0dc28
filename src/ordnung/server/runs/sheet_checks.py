"""The checks of a sheet: what the last readings, the store, the record and the site's places say of it."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from ordnung.core.assessment import Standing
from ordnung.core.away import AwayLimits, AwayPlace, may_begin
from ordnung.core.checks import Before, Outside, Situation
from ordnung.core.sheet import PlannedRound, has_outage
from ordnung.core.sheet_checks import SheetFinding, check_situations
from ordnung.engine.entry_codec import parse_rounds
from ordnung.server.assessment.current import current_assessment
from ordnung.server.clock import now
from ordnung.server.house.settings import house
from ordnung.server.repositories.payloads import open_store
from ordnung.server.runs.derived import taken_places
from ordnung.server.runs.history import failures_of
from ordnung.server.runs.journal import away_limits
from ordnung.server.runs.layout import place_of, places_of
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.night import forecast_row
from ordnung.server.runs.way_back import way_back_version
from ordnung.store.content import ContentStore


@dataclass(frozen=True, slots=True, kw_only=True)
class SeenRow:
    server: str
    seen: str


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckRow:
    """What one check found; ``overridable``: a person may override it for these servers, with a reason."""

    check: str
    severity: Literal["pass", "note", "warn", "block"]
    remedy: str
    overridable: bool
    servers: list[SeenRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class _House:
    """What is looked up once for all servers of a sheet."""

    at: datetime.datetime
    done_by: datetime.datetime
    seal_ends: datetime.datetime | None
    hours: int
    store: ContentStore
    failures: Mapping[tuple[str, str, str], int]
    taken: Sequence[AwayPlace]
    limits: AwayLimits


def check_rows(run: Run) -> list[CheckRow]:
    """Everything the checks have to say of a draft, what blocks first."""
    places = places_of(run)
    standings = current_assessment().standings
    at = now()
    start = run.lanes_from if run.windows and run.lanes_from is not None else at
    known = _House(
        at=at,
        done_by=start + datetime.timedelta(seconds=forecast_row(run).end.p99),
        seal_ends=run.repository.expires if run.repository is not None else None,
        hours=house().reading_hours,
        store=open_store(),
        failures=failures_of({s.server.model for s in standings.values()}),
        taken=taken_places(),
        limits=away_limits(),
    )
    situations = [
        situation
        for place in places
        if (standing := standings.get(place.server.name)) is not None
        for situation in _situations(place, standing, known)
    ]
    found = check_situations(situations, {place.server.name: place.overrides for place in places})
    stopping = {place.server.name: place.stopping for place in places}
    return [_row(finding, stopping) for finding in found]


def _row(finding: SheetFinding, stopping: Mapping[str, str]) -> CheckRow:
    return CheckRow(
        check=finding.check, severity=finding.severity.value, remedy=finding.remedy,
        overridable=any(stopping[s.server] == finding.check for s in finding.servers),
        servers=[SeenRow(server=s.server, seen=s.seen) for s in finding.servers],
    )  # fmt: skip


def _situations(place: RunServer, standing: Standing, known: _House) -> Iterator[Situation]:
    """One for each write, and one for what is asked of the server whatever is written."""
    rounds = parse_rounds(place.rounds)
    outage = has_outage(rounds)
    outside = _outside(place, standing, rounds, known)
    yield Situation(server=standing.server, before=Before.SHEET, now=known.at, will_reset=outage, outside=outside)
    for number, step in enumerate(rounds):
        for planned in step.writes:
            yield Situation(
                server=standing.server, before=Before.SHEET, now=known.at, write=planned, way=_way(standing),
                # What it offers in later rounds, a newer release of its controller may decide.
                reset=None if number else step.reset, will_reset=outage, outside=outside,
            )  # fmt: skip


def _way(standing: Standing) -> str | None:
    """Any way there is: which one is taken is decided at its turn, HTTPS only where the clock lets it."""
    facts = standing.server.facts
    return "some way" if facts is not None and (facts.pulls or facts.push is not None) else None


def _outside(place: RunServer, standing: Standing, rounds: Sequence[PlannedRound], known: _House) -> Outside:
    writes = [planned for step in rounds for planned in step.writes]
    model = standing.server.model
    refusal = may_begin(known.taken, known.limits, place_of(place.server, has_outage(rounds), place.group))
    failed = {
        f"{p.write.slot} {p.write.to} failed {times} times on this model before"
        for p in writes
        if (times := known.failures.get((model, p.write.product, p.write.to), 0))
    }
    return Outside(
        seal_ends=known.seal_ends,
        done_by=known.done_by,
        reading_hours=known.hours,
        lacking=tuple(
            f"{p.write.slot} {p.write.to}"
            for p in writes
            if p.needs_payload and (p.payload is None or not known.store.has(p.payload.sha256))
        ),
        unsettled=tuple(f"{name}: {how}" for name, how in sorted(place.identities.items()) if how.startswith("not")),
        barred=() if place.back else tuple(_barred(place, standing, rounds, known.store)),
        failed_before=tuple(sorted(failed)),
        hands=tuple(f"{h['when']} {h['slot']} {h['to']}: {h['what']}" for h in place.hands),
        short=str(refusal) if refusal is not None and refusal.limit not in ("at once", "server") else "",
    )


def _barred(place: RunServer, standing: Standing, rounds: Sequence[PlannedRound], store: ContentStore) -> Iterator[str]:
    by_slot = {p.component.slot: p for p in standing.positions}
    starts: dict[str, list[str]] = {}
    for step in rounds:
        for planned in filter(lambda p: p.is_update, step.writes):
            starts.setdefault(planned.write.slot, [planned.write.source]).append(planned.write.to)
    for slot, (start, *passed) in starts.items():
        if slot in by_slot and by_slot[slot].component.is_empty:
            continue  # nothing was on it that could be gone back to
        product = by_slot[slot].product if slot in by_slot else None
        back = way_back_version(standing, slot, start, passed)
        release = product.find(start) if product is not None else None
        if back is None:
            yield f"{slot} can't go back from {passed[-1]}: a floor bars everything older"
        elif release is None or release.payload is None or not store.has(release.payload.sha256):
            yield f"{slot} {start} is not packed for the way back"
