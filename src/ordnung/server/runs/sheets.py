"""Make run sheets: routes and timetable of chosen servers, or the way back of one update."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from ordnung.core.assessment import Standing
from ordnung.core.checks import Before, Situation, find_block, run_checks
from ordnung.core.night.recurring import Opening
from ordnung.core.route import Route
from ordnung.core.run_sheet import hands_on
from ordnung.core.sheet import NamedPayload, PlannedRound, name_payloads
from ordnung.engine.entry_codec import parse_rounds, rounds_body
from ordnung.engine.payloads import StoredPayloads
from ordnung.formats.rules import rules_document
from ordnung.server.assessment.current import current_assessment
from ordnung.server.audit.recording import record, recorded
from ordnung.server.baselines.current import follows_rows
from ordnung.server.baselines.exclusions import reasons, reviewed
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server
from ordnung.server.house.settings import house
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Repository
from ordnung.server.repositories.payloads import open_store
from ordnung.server.runs.documents import keep_revision
from ordnung.server.runs.identities import Identities
from ordnung.server.runs.layout import lay_out_sheet
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.work.events import tell


def draft_sheet(names: Sequence[str] | None, person: str, title: str = "", openings: Sequence[Opening] = ()) -> Run:
    """A draft for the chosen servers that have something to do, laid into the first opening in which anybody fits.

    Without ``openings`` it is for whenever it is started.

    Raises:
        Problem: none of them has anything to do.
    """
    standings = [s for s in reviewed(current_assessment().chosen(list(names) if names else None)) if s.route.rounds]
    if not standings:
        raise Problem("nothing-to-do", "These servers need nothing: all are level, held or without a route.")
    name = title or usual_name([s.server.name for s in standings])
    return store_sheet(name, person, standings, [s.route for s in standings], openings=openings)


def narrow(names: Sequence[str] | None, group: str, exposed: bool) -> list[str] | None:
    """Of some servers (none named: of all) those of a group, or those that lack the fix of an advisory.

    Raises:
        Problem: there is none. It never widens to all.
    """
    if not group and not exposed:
        return None if names is None else list(names)
    assessment = current_assessment()
    found = assessment.chosen(list(names) if names else None)
    left = [
        s.server.name
        for s in found
        if (not group or s.server.group == group) and (not exposed or assessment.counts[s.server.name][1])
    ]
    if not left:
        whom = " and ".join([*([f"in {group[:200]}"] if group else []), *(["exposed"] if exposed else [])])
        raise Problem("nothing-to-do", f"None of these servers is {whom}.")
    return left


def usual_name(names: Collection[str]) -> str:
    """What a sheet for these servers is called unless somebody names it."""
    whom = ", ".join(sorted(names)) if len(names) <= 2 else f"{len(names)} servers"
    return f"{whom} to the baseline"


def expected_stop(standing: Standing, overrides: Mapping[str, str] | None = None) -> tuple[str, str]:
    """What will stop a server before anything is sent, by its last reading, and the check behind it where a person
    may override that. Both are empty where nothing will. It is read again and tried when its turn comes.
    """
    situation = Situation(server=standing.server, before=Before.RESET, now=now())
    block = find_block(run_checks(situation, overrides))
    jobs = standing.server.facts.jobs if standing.server.facts else ()
    if block is not None:
        message = f"{block.seen}: it will be stopped unless that has ended by then. {block.remedy}"
        return message, block.check if block.may_override else ""
    if jobs:
        return f"{jobs[0]}: it will be put off to the end and then stopped unless that job has ended.", ""
    return "", ""


@recorded()
def store_sheet(
    name: str, person: str, standings: Sequence[Standing], routes: Sequence[Route], *,
    backs: Mapping[str, Mapping[str, str]] | None = None, takes_back: Run | None = None,
    openings: Sequence[Opening] = (),
) -> Run:  # fmt: skip
    """Keep a draft for servers with their routes, laid out into the first opening in which anybody fits.

    ``backs``: by server, what goes back to which version.
    """
    assessment = current_assessment()
    named = {
        s.server.name: name_payloads(r.rounds, s.positions, by_bank=s.server.name in (backs or {}))
        for s, r in zip(standings, routes, strict=True)
    }
    repository = _find_repository(p.sha256 for rounds in named.values() for p in payloads_of(rounds))
    run = Run(
        name=name,
        drafted_at=now(),
        drafted_by=person,
        takes_back=takes_back,
        revision=assessment.baseline.number,
        rules=rules_document(assessment.baseline.rules),
        follows=follows_rows(assessment.catalogs.freeze(s.server.model for s in standings)),
        repository=repository,
        source=f"{repository.name}, edition {repository.edition}" if repository else "from the store",
        certainty=house().certainty if openings else None,
    )
    places = _places(run, standings, routes, named, backs or {})
    _lay_into(run, places, openings)
    run.save()
    RunServer.objects.bulk_create(places)
    tell("runs", id=run.pk)
    made = {"name": name, "revision": run.revision, "source": run.source}
    record(on={"run": run.pk, "servers": [p.server.name for p in places]}, after=made)
    keep_revision(run, person, "drafted", places)
    return run


TRIED_OPENINGS = 2
"""The present or next opening, and, if it is too late in that for anybody, the one after."""


def _lay_into(run: Run, places: Sequence[RunServer], openings: Sequence[Opening]) -> None:
    """Into the first opening in which anybody fits; where nobody fits into any, into the first all the same."""
    tried = openings[:TRIED_OPENINGS]
    for opening in (*tried, *tried[:1]):
        run.windows = window_rows([opening])
        lay_out_sheet(run, places)
        if any(place.lane for place in places):
            return
    if not tried:
        lay_out_sheet(run, places)


def window_rows(windows: Iterable[Opening]) -> list[dict[str, str]]:
    """Openings as they are kept with a run."""
    return [{"start": o.start.isoformat(), "end": o.end.isoformat(), "name": o.name} for o in windows]


def _places(
    run: Run, standings: Sequence[Standing], routes: Sequence[Route],
    named: Mapping[str, tuple[PlannedRound, ...]], backs: Mapping[str, Mapping[str, str]],
) -> list[RunServer]:  # fmt: skip
    names = [s.server.name for s in standings]
    rows = {r.name: r for r in Server.objects.filter(name__in=names).select_related("group")}
    by_place, settled = reasons(names), Identities(StoredPayloads(open_store(), None))
    places = []
    for standing, route in zip(standings, routes, strict=True):
        server = standing.server.name
        place = RunServer(
            run=run,
            server=rows[server],
            group=standing.server.group or "",
            back=dict(backs[server]) if server in backs else None,
            left_out=by_place.get(server, {}),
        )
        put_plan(place, standing, route, named[server], settled)
        places.append(place)
    return places


def put_plan(
    place: RunServer, standing: Standing, route: Route, rounds: tuple[PlannedRound, ...], settled: Identities
) -> None:
    """Put a server's way into its row: rounds, what can't be reached, whose payloads they are, what may stop it."""
    place.rounds = rounds_body(rounds)
    place.stranded = [dataclasses.asdict(s) for s in route.stranded]
    place.proven = route.proven
    place.gap = 0 if route.proven else max(0, route.outages - route.bound_outages)
    place.detail, place.stopping = expected_stop(standing, place.overrides)
    place.hands = [dataclasses.asdict(step) for step in hands_on(rounds)]
    place.identities = settled.of(rounds, standing.positions)


def payloads_of(rounds: Iterable[PlannedRound]) -> list[NamedPayload]:
    """The payloads that rounds name, in order."""
    return [planned.payload for step in rounds for planned in step.writes if planned.payload is not None]


def _find_repository(sums: Iterable[str]) -> Repository | None:
    """The newest sealed repository here that holds every payload of a run, or None: they come from the store."""
    needed = set(sums)
    if not needed:
        return None
    for row in Repository.objects.sealed().order_by("-made_at", "-pk")[:LOOKED_AT]:
        if needed <= set(row.lines.packed().values_list("sha256", flat=True)):
            return row
    return None


LOOKED_AT = 20
"""How many of the newest repositories are looked through."""


@dataclass(frozen=True, slots=True, kw_only=True)
class MissingRow:
    """A payload that a run needs and the store has not."""

    product: str
    version: str


def what_is_missing(run: Run) -> list[MissingRow]:
    """Payloads a run needs that are not in the store: those it names, whatever catalogs came since."""
    store, products = open_store(), current_assessment().catalogs.by_id
    missing: dict[tuple[str, str], MissingRow] = {}
    for place in run.servers.all():
        for step in parse_rounds(place.rounds):
            for planned in step.writes:
                write, payload = planned.write, planned.payload
                if planned.needs_payload and (payload is None or not store.has(payload.sha256)):
                    product = products.get(write.product)
                    name = product.name if product else write.product
                    missing.setdefault((write.product, write.to), MissingRow(product=name, version=write.to))
    return list(missing.values())
