"""Laying out the way back of what a run did: one update, one server, one wave, or all of it (N7.2)."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.assessment import Standing
from ordnung.core.away import AwayPlace
from ordnung.core.night.itinerary import duty_of_rounds, plan_itinerary
from ordnung.core.night.limits import NightLimits
from ordnung.core.packing import ways_back
from ordnung.core.route import Route, Stranded, plan_way_back
from ordnung.core.sheet import SET_UP, name_payloads
from ordnung.core.way_back import list_ways_back
from ordnung.engine.compare import find_position
from ordnung.engine.tape import fold
from ordnung.engine.tape_state import TapeState
from ordnung.server.assessment.current import current_assessment
from ordnung.server.assessment.present import resets_text
from ordnung.server.problems import Problem
from ordnung.server.runs.derived import load_tape
from ordnung.server.runs.models import Run
from ordnung.server.runs.sheets import store_sheet

FLOOR = "a floor version bars everything older"
NOTHING_ON_IT = "nothing was on it before"
TOLD = 3


@dataclass(frozen=True, slots=True, kw_only=True)
class WayBack:
    """What of one server goes back, to which versions and how; ``route`` strands what can't."""

    standing: Standing
    route: Route
    back: dict[str, str]


def draft_way_back(run: Run, person: str, *, server: str = "", slot: str = "", wave: str = "") -> Run:
    """A draft that takes back what a run did: one update of a server, one server, one wave, or all of it.

    Raises:
        Problem: it was not done in that run, or nothing of it has a way back, with the reason.
    """
    places = run.servers.select_related("server").order_by("-place")
    if server:
        places = places.filter(server__name=server)
    if wave:
        places = places.filter(wave=wave)
    found = [way for place in places if (way := _of_server(run, place.server.name, slot)) is not None]
    if not found:
        what = f"{slot} of {server}" if slot else server or wave or run.name
        raise Problem("not-done", f"{what} was not updated in this run.", status=404)
    going = [way for way in found if way.route.rounds]
    if not going:
        raise Problem("barred", _tell_barred(found))
    return store_sheet(
        _name(run, going[0], server, slot, wave), person, [way.standing for way in going],
        [way.route for way in going], backs={way.standing.server.name: way.back for way in going}, takes_back=run,
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class BackCost:
    """What going back to a version takes: ``seconds`` of work on the server, resets in words; why it can't be."""

    seconds: float
    resets: str
    outage: bool
    by_bank: bool
    barred: str


def cost_of_back(standing: Standing, slot: str, version: str) -> BackCost:
    """What it would cost to take a component back to a version, by the bank that holds it or by its payload."""
    route = plan_way_back(standing.positions, {slot: version})
    rounds = name_payloads(route.rounds, standing.positions, by_bank=True)
    place = AwayPlace(server=standing.server.name)
    steps = plan_itinerary(duty_of_rounds(place, standing.server.model, rounds), NightLimits()).steps
    return BackCost(
        seconds=sum(step.seconds for step in steps),
        resets=resets_text(route),
        outage=route.outages > 0,
        by_bank=any(planned.bank for step in rounds for planned in step.writes),
        barred="; ".join(lost.reason for lost in route.stranded),
    )


def draft_back(server: str, slot: str, version: str, person: str) -> Run:
    """A draft that takes one component back to a version, whoever brought it to where it is.

    Raises:
        Problem: there is no such component, or it has no way back to that version, with the reason.
    """
    standing = current_assessment().standings.get(server)
    position = find_position(standing.positions, slot) if standing is not None else None
    if standing is None or position is None:
        raise Problem("not-found", f"There is no component {slot} in {server}.", status=404, field="slot")
    way = next((way for way in list_ways_back(position) if way.version == version), None)
    if way is None:
        raise Problem("barred", f"{slot} of {server} has no older version {version} to go back to.", field="to")
    route = plan_way_back(standing.positions, {slot: version})
    barred = way.barred or "; ".join(lost.reason for lost in route.stranded)
    if barred or not route.rounds:
        raise Problem("barred", f"{slot} of {server} can't go back to {version}: {barred or 'it is there'}.")
    name = f"Take back {slot} of {server} to {version}"[:200]
    return store_sheet(name, person, [standing], [route], backs={server: {slot: version}})


def _of_server(run: Run, server: str, slot: str) -> WayBack | None:
    """The way back of one server; None where nothing of it was done in that run."""
    state = fold(load_tape(run.pk, server))
    standing = current_assessment().standings.get(server)
    before, done = state.before, _written(state)
    slots = [s for s in dict(done) if slot in ("", s)]
    if before is None or standing is None or not slots:
        return None
    back, lost = {}, []
    for each in slots:
        old = before.component(each)
        passed = [version for s, version in done if s == each]
        to = way_back_version(standing, each, old.version if old else None, passed)
        now_at = standing.server.component(each)
        if to is None:
            why = NOTHING_ON_IT if old is not None and old.is_empty else FLOOR
            lost.append(Stranded(slot=each, reason=f"no way back: {why}"))
        elif slot or now_at is None or now_at.version != to or now_at.has_waiting:
            back[each] = to
    route = plan_way_back(standing.positions, back) if back else Route()
    stay = {stranded.slot for stranded in route.stranded}
    return WayBack(
        standing=standing,
        back={each: to for each, to in back.items() if each not in stay},
        route=dataclasses.replace(route, stranded=(*route.stranded, *lost)),
    )


def _written(state: TapeState) -> tuple[tuple[str, str], ...]:
    """What is confirmed of a server, and what may wait for its reset still: slots with versions."""
    known = {part.slot for part in state.before.components} if state.before is not None else set()
    more = {(slot, version) for slot, version in state.said_written if slot in known and version != SET_UP}
    return (*state.done, *sorted(more - {*state.done}))


def _tell_barred(found: Sequence[WayBack]) -> str:
    reasons = [
        f"{way.standing.server.name} {lost.slot}: {lost.reason}" for way in found for lost in way.route.stranded
    ]  # fmt: skip
    if not reasons:
        return "Everything is as it was before already."
    more = f", and {len(reasons) - TOLD} more" if len(reasons) > TOLD else ""
    return f"Nothing of it can go back. {'; '.join(reasons[:TOLD])}{more}."


def _name(run: Run, first: WayBack, server: str, slot: str, wave: str) -> str:
    if slot:
        return f"Take back {slot} of {server} to {first.back[slot]}"
    return f"Take back {server or (f'{wave} of {run.name}' if wave else run.name)}"[:200]


def way_back_version(standing: Standing, slot: str, before: str | None, passed: Sequence[str]) -> str | None:
    """The version an update can be taken back to, nearest to where it came from, or None."""
    position = next((p for p in standing.positions if p.component.slot == slot), None)
    if position is None or position.product is None or before is None:
        return None
    found = ways_back(position.product, [before, *passed])
    return found[0] if found else None
