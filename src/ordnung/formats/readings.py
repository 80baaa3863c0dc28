"""Readings, ``ordnung.readings/1``: bytes to servers and back."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from typing import Any

from ordnung.core.components import Component, Server
from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import FormatError


def parse_readings(raw: bytes, source: str = "readings") -> tuple[Server, ...]:
    """The servers of a readings file.

    Raises:
        FormatError: not valid, a time that can't be read, or one slot twice in a server (R21).
    """
    document = parse_document(raw, "readings", source)
    return tuple(build_server(entry, source, f"servers.{place}") for place, entry in enumerate(document["servers"]))


def build_server(entry: dict[str, Any], source: str = "reading", place: str = "") -> Server:
    """One server of a document that was checked against the schema. Raises FormatError as above."""
    components = tuple(
        Component(
            slot=item["slot"],
            kind=item["kind"],
            name=item.get("name") or item["slot"],
            software_id=item.get("software_id"),
            version=item["version"] if (item["version"] or "").strip() else None,
            waiting=item.get("waiting"),
            banks=tuple(item.get("banks") or ()),
            updateable=item.get("updateable"),
            pci=item.get("pci"),
            part=item.get("part"),
            origin=item.get("origin", "controller"),
        )
        for item in entry.get("components", ())
    )
    slots = [component.slot for component in components]
    doubled = next((slot for slot in slots if slots.count(slot) > 1), None)
    if doubled is not None:
        raise FormatError(source, f"{place}.components", f"slot {doubled} stands twice")
    return Server(
        name=entry["name"],
        model=entry.get("model") or "",
        serial=entry.get("serial"),
        group=entry.get("group"),
        read_at=_time(entry.get("read_at"), source, f"{place}.read_at"),
        components=components,
        unread=entry.get("unread"),
    )


def _time(text: str | None, source: str, place: str) -> datetime.datetime | None:
    if text is None:
        return None
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        raise FormatError(source, place, f"{text} is not a time") from None
    return moment if moment.tzinfo else moment.replace(tzinfo=datetime.UTC)


def write_readings(servers: Sequence[Server]) -> bytes:
    """The fixed spelling of a readings file."""
    return write_document({"format": "ordnung.readings/1", "servers": [server_entry(server) for server in servers]})


def server_entry(server: Server) -> dict[str, Any]:
    """One server as a JSON object of the readings format."""
    entry: dict[str, Any] = {
        "name": server.name,
        "model": server.model,
        "serial": server.serial,
        "group": server.group,
        "read_at": server.read_at.isoformat() if server.read_at else None,
    }
    if server.unread is not None:
        entry["unread"] = server.unread
    entry["components"] = [
        {
            "slot": c.slot,
            "kind": c.kind,
            "name": c.name,
            "software_id": c.software_id,
            "version": c.version,
            "waiting": c.waiting,
            "banks": list(c.banks),
            "updateable": c.updateable,
            "pci": c.pci,
            "part": c.part,
            "origin": c.origin,
        }
        for c in server.components
    ]
    return entry
