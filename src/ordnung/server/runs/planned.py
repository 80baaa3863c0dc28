"""What a draft does with its servers as they stand: the whole way, what needs no reboot of ours, or all by its disc."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

from ordnung.core.assessment import Standing
from ordnung.core.by_disc import go_by_disc, why_not_by_disc
from ordnung.core.same_server import usable_serial, usable_uuid
from ordnung.core.sheet import PlannedRound, name_payloads
from ordnung.core.unattended import leave_reboots
from ordnung.engine.payloads import StoredPayloads
from ordnung.server.assessment.current import current_assessment
from ordnung.server.baselines.exclusions import reviewed
from ordnung.server.fleet.models import Server
from ordnung.server.repositories.payloads import open_store
from ordnung.server.runs.identities import Identities
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.sheets import put_plan

NOT_LEFT = "It can't be left for a reboot: nothing is sent."
Planned = tuple[tuple[PlannedRound, ...], str]
"""What a sheet does with a server, and why it does nothing with it; empty where there is no reason."""


def planner(run: Run) -> Callable[[Standing], Planned]:
    """How a sheet plans a server, by what was chosen for the whole of it."""
    if run.unattended:
        return lambda standing: _left(leave_reboots(_whole(standing)))
    if run.disc is None:
        return lambda standing: (_whole(standing), "")
    held = frozenset(run.disc.repository.lines.packed().values_list("sha256", flat=True))
    shared = frozenset(Server.objects.exclude(system=None).values_list("name", flat=True))
    return lambda standing: _by_disc(standing, held, shared)


def plan_anew(run: Run, places: Sequence[RunServer]) -> None:
    """Plan servers of a draft as they stand, into their rows; one that has no reading any more stays as it is."""
    plan, settled = planner(run), Identities(StoredPayloads(open_store(), None))
    standings = {s.server.name: s for s in reviewed(current_assessment().chosen([p.server.name for p in places]))}
    for place in places:
        standing = standings.get(place.server.name)
        if standing is not None:
            rounds, why = plan(standing)
            put_plan(place, standing, standing.route, rounds, settled)
            place.detail = why or place.detail


def _whole(standing: Standing) -> tuple[PlannedRound, ...]:
    return name_payloads(standing.route.rounds, standing.positions)


def _left(rounds: tuple[PlannedRound, ...]) -> Planned:
    return rounds, "" if rounds else NOT_LEFT


def _by_disc(standing: Standing, held: Collection[str], shared: Collection[str]) -> Planned:
    rounds = _whole(standing)
    why = _why_not_here(standing, shared) or why_not_by_disc(rounds, held)
    return ((), f"It can't go by this disc: {why}.") if why else (go_by_disc(rounds), "")


def _why_not_here(standing: Standing, shared: Collection[str]) -> str:
    server, facts = standing.server, standing.server.facts
    if not (usable_uuid(server.uuid) or usable_serial(server.serial)):
        return "nothing tells it from another server, and the kit is to touch no other"
    if server.name in shared:
        return "its controller serves other systems too, and the kit there would not know which is its own"
    push = facts.push if facts is not None else None
    if push not in ("any", "image"):
        taken = "a pushed payload for itself alone" if push == "own" else "no pushed payload"
        return f"its controller takes {taken}, and the kit has no other way to bring one"
    return ""
