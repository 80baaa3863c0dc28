"""Two more kinds of work: look for servers to be added, and try the way from controllers to us."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import transaction

from ordnung.controllers import CAUSES, ControllerError, Endpoint
from ordnung.controllers.identity import Identity
from ordnung.controllers.ssdp import PORT, search
from ordnung.engine.discover import (
    IdentityStanding,
    Known,
    Sighting,
    Where,
    find_doubles,
    look,
    match_known,
)
from ordnung.engine.reach import probe_all
from ordnung.formats.addresses import is_host_name
from ordnung.server.clock import now
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.fleet.models import Search, SearchRow, Server
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.progress import add_done, bump, fail, succeed


async def do_search(work: Work, ports: EnginePorts) -> None:
    """Look at the addresses of a search."""
    found = await Search.objects.aget(pk=work.subject["search"])
    if found.is_listening and not await found.rows.aexists():
        await sync_to_async(_store_heard)(work, found, await _listen())
    endpoints, known = await sync_to_async(_prepare)(found)
    identities: dict[Where, Identity] = {}

    async def report(result: Sighting) -> None:
        identities.update({(result.url, identity.system): identity for identity in result.identities})
        await sync_to_async(_store_looked)(work, found, result, known)

    await look(endpoints, ports.controllers.client, report)
    await sync_to_async(_end_search)(work, found, find_doubles(identities))


async def _listen() -> list[str]:
    interface, _, port = str(settings.SSDP or "").partition(":")
    heard = await search(interface, port=int(port) if port else PORT)
    return [one.url for one in heard]


def _store_heard(work: Work, found: Search, urls: list[str]) -> None:
    hosts = [(url, url.removeprefix("https://").rpartition(":")[0].strip("[]")) for url in urls]
    named = [url for url, host in hosts if is_host_name(host) or settings.NETWORKS.allows(host)]
    rows = [SearchRow(search=found, url=url) for url in named]
    SearchRow.objects.bulk_create(rows)
    bump(work, total=len(rows))


def _prepare(found: Search) -> tuple[list[Endpoint], list[Known]]:
    password = found.password()
    user = found.user if password else ""
    urls = found.rows.unanswered().values_list("url", flat=True)
    endpoints = [Endpoint(name=url.removeprefix("https://"), url=url, user=user, password=password) for url in urls]
    rows = Server.objects.all()
    known = [Known(name=r.name, url=r.url, uuid=r.uuid, serial=r.serial, system=r.system) for r in rows]
    return endpoints, known


def _store_looked(work: Work, found: Search, result: Sighting, known: list[Known]) -> None:
    with transaction.atomic():
        rows = found.rows.unanswered().filter(url=result.url)
        if not result.identities:
            rows.find_nobody(_tell_failure(result))
        for identity in result.identities[1:]:
            # More servers behind one controller: a row each, placed as the list placed the first.
            for row in list(rows.filter(system=None)):
                SearchRow.objects.create(
                    search=found, url=row.url, line=row.line, system=identity.system,
                    **_found_values(identity, result.url, known),
                )  # fmt: skip
        if result.identities:
            values = _found_values(result.identities[0], result.url, known)
            rows.update(**values, system=result.identities[0].system)
        add_done(work, 1)
        tell("searches", id=found.pk)


def _found_values(identity: Identity, url: str, known: list[Known]) -> dict[str, Any]:
    match, standing = match_known(identity, url, known)
    facts = dataclasses.asdict(identity)
    facts.pop("system")
    details = {
        IdentityStanding.MOVED: f"known at {match.url} until now" if match else "",
        IdentityStanding.UNCERTAIN: f"it can't be told from {match.name}: they share what would tell them apart"
        if match
        else "",
    }
    values = {"state": str(standing), "detail": details.get(standing, ""), "host_name": facts.pop("name")}
    return values | facts | {"known": match.name if match else None}


def _tell_failure(result: Sighting) -> str:
    return f"{result.cause}: {result.detail}. {CAUSES.get(result.cause or '', '')}" if result.cause else ""


def _end_search(work: Work, found: Search, doubles: Mapping[Where, Where]) -> None:
    with transaction.atomic():
        for (url, system), (first, _) in doubles.items():
            message = f"the same server as at {first}"
            found.rows.filter(url=url, system=system).find_double(message)
        found.is_done = True
        found.save(update_fields=["is_done"])
        counts = {state: found.rows.filter(state=state).count() for state in TOLD}
        note = ", ".join(f"{n} {state}" for state, n in counts.items() if n) or "nobody answered"
        succeed(work, note)
        tell("searches", id=found.pk)


TOLD = (SearchRow.State.NEW, SearchRow.State.KNOWN, SearchRow.State.MOVED, SearchRow.State.UNCERTAIN)
"""What the end of a search tells the number of."""


async def do_reach(work: Work, ports: EnginePorts) -> None:
    """Have controllers send a test to us."""
    names: list[str] = work.subject["servers"]
    await sync_to_async(bump)(work, done=0, failures=[])
    failures: list[dict[str, str]] = []

    async def report(name: str, probes: Mapping[str, str], error: ControllerError | None) -> None:
        if error is not None:
            failures.append({"server": name, "cause": error.cause, "detail": error.detail, "remedy": error.remedy})
        await sync_to_async(_store_probe)(work, name, dict(probes), failures)

    endpoints = await sync_to_async(_endpoints)(names)
    await probe_all(endpoints, ports.controllers, ports.payloads, report)
    note = f"{len(names) - len(failures)} of {len(names)} tried"
    await sync_to_async(fail if failures else succeed)(work, note)


def _endpoints(names: list[str]) -> list[Endpoint]:
    return [row.endpoint() for row in Server.objects.filter(name__in=names).order_by("name")]


def _store_probe(work: Work, name: str, probes: dict[str, str], failures: list[dict[str, str]]) -> None:
    with transaction.atomic():
        if probes:
            Server.objects.filter(name=name).update(probes=probes, probed_at=now())
            tell("readings", servers=[name])
        Work.objects.filter(pk=work.pk).update(failures=failures)
        add_done(work, 1)
