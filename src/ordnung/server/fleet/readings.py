"""Keep readings and tell what changed between any two of them."""

from __future__ import annotations

import dataclasses
import datetime
from typing import Any

import structlog
from django.db import transaction
from django.db.models import Q

from ordnung.controllers import AnotherServerError, ControllerError
from ordnung.core.components import Server as ServerValue
from ordnung.core.history import Change, compare_readings
from ordnung.core.same_server import Identified, spellings, usable_serial, usable_uuid
from ordnung.core.waiting import still_left
from ordnung.formats.errors import FormatError
from ordnung.formats.readings import build_server, server_entry
from ordnung.server.clock import now
from ordnung.server.fleet.models import Reading, Server, keep_states, load_entries
from ordnung.server.work.events import tell
from ordnung.server.work.rows import FailureRow

log = structlog.get_logger()


def store_reading(server: ServerValue, pin: str | None) -> None:
    """Keep a reading; the certificate seen first is remembered from now on.

    Components that were there at the last reading and are not any more are put on the server's list of what it
    has lost; one that is back is taken off again.
    """
    with transaction.atomic():
        row = Server.objects.select_related("latest").get(name=server.name)
        entry = server_entry(dataclasses.replace(server, group=None, rack=None, room=None))
        parts = keep_states(entry.pop("components"))
        before = _value_before(row)
        changes = compare_readings(before, server) if before is not None else ()
        row.latest = Reading.objects.create(
            server=row, read_at=server.read_at or now(), head=entry, parts=parts, changes=len(changes)
        )
        row.lost = _lost(row.lost, changes, server)
        row.left = [dataclasses.asdict(write) for write in still_left(server, row.left_writes, surely=True)]
        row.pin = row.pin or pin
        row.uuid, row.serial = server.uuid or row.uuid, server.serial or row.serial
        row.forget_failure()
        row.save(update_fields=["latest", "lost", "left", "pin", "uuid", "serial", *row.FAILURE])
        tell("readings", servers=[server.name])


def store_failure(name: str, error: ControllerError) -> FailureRow:
    """Keep why a server can't be read, with what it showed for a person to accept; the last reading stays.

    Returns:
        The same as the screens tell it.
    """
    row = Server.objects.get(name=name)
    row.cause, row.detail, row.failed_at, row.seen_pin = error.cause, error.detail, now(), error.seen
    row.seen_uuid = error.uuid if isinstance(error, AnotherServerError) else None
    row.seen_serial = error.serial if isinstance(error, AnotherServerError) else None
    row.save(update_fields=row.FAILURE)
    tell("readings", servers=[name])
    return FailureRow(server=name, cause=error.cause, detail=error.detail, remedy=error.remedy)


def _value_before(row: Server) -> ServerValue | None:
    """The last reading; None when there is none, or when it can't be loaded: then nothing is compared with it."""
    try:
        return value_of(row.latest, row.name) if row.latest is not None else None
    except (FormatError, KeyError, TypeError, ValueError, AttributeError):
        log.exception("a stored reading can't be loaded", server=row.name)
        return None


def _lost(known: list[dict[str, Any]], changes: tuple[Change, ...], server: ServerValue) -> list[dict[str, Any]]:
    there = {component.slot for component in server.components}
    at = (server.read_at or now()).isoformat()
    kept = [item for item in known if item["slot"] not in there]
    new = [
        {"slot": c.slot, "kind": c.kind, "name": c.name, "version": c.before, "missed_at": at}
        for c in changes
        if c.what == "vanished"
    ]
    return kept + [item for item in new if item["slot"] not in {i["slot"] for i in kept}]


def value_of(reading: Reading, name: str) -> ServerValue:
    """A reading as the core knows it."""
    return build_server({**load_entries([reading])[reading.pk], "name": name})


LOOKED_BACK = 200
"""How many readings are looked through for when a version was first seen."""


def first_seen(row: Server) -> dict[str, datetime.datetime]:
    """When each component's present version was first seen without a break, as far as readings go back (N1.2)."""
    readings = list(row.readings.order_by("-pk")[:LOOKED_BACK])
    if not readings:
        return {}
    entries = load_entries(readings)
    versions = [{part["slot"]: part["version"] for part in entries[r.pk]["components"]} for r in readings]
    since: dict[str, datetime.datetime] = {}
    for slot, version in versions[0].items():
        for reading, then in zip(readings, versions, strict=True):
            if then.get(slot) != version:
                break
            since[slot] = reading.read_at
    return since


def changes_between(first: Reading, second: Reading, name: str) -> tuple[Change, ...]:
    """What changed from one reading of a server to another."""
    entries = load_entries([first, second])
    before, after = (build_server({**entries[r.pk], "name": name}) for r in (first, second))
    return compare_readings(before, after)


def find_by_identity(told: Identified) -> Server | None:
    """The one server of the house that hardware is, by its UUID, then by its serial.

    What factories ship tells nothing. A serial that is told inside a system may be that of its chassis: it counts where
    a UUID is not told by both.

    Returns:
        None where there is none, or where there are several that it could be.
    """
    servers = Server.objects.select_related("latest", "report", "group")
    uuid, serial = usable_uuid(told.uuid), usable_serial(told.serial)
    if uuid is not None:
        one, other = spellings(uuid)
        if found := list(servers.filter(Q(uuid__iexact=one) | Q(uuid__iexact=other))):
            return found[0] if len(found) == 1 else None
    named = servers.filter(serial__iexact=serial) if serial is not None else servers.none()
    found = [row for row in named if uuid is None or usable_uuid(row.uuid) is None]
    return found[0] if len(found) == 1 else None


def tell_nobody(told: Identified) -> str:
    """Why ``find_by_identity`` finds none, in words."""
    uuid = told.uuid if usable_uuid(told.uuid) else None
    serial = told.serial if usable_serial(told.serial) else None
    known_by = " and ".join([*([f"serial {serial}"] if serial else []), *([f"UUID {uuid}"] if uuid else [])])
    if not known_by:
        return "it tells neither a serial nor a UUID by which a server could be told from others"
    return f"no one server of the house has {known_by}"
