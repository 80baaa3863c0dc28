"""Readings, ``ordnung.readings/1``: bytes to servers and back."""

from __future__ import annotations

import dataclasses
import datetime
import json
from collections.abc import Sequence
from typing import Any

from ordnung.core.components import Component, Server, Start
from ordnung.core.facts import Facts, Licence
from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import FormatError


def parse_readings(raw: bytes, source: str = "readings") -> tuple[Server, ...]:
    """The servers of a readings file.

    Raises:
        FormatError: not valid, a time that can't be read, or one slot twice in a server (R21).
    """
    document = parse_document(raw, "readings", source)
    return tuple(build_server(entry, source, f"servers.{place}") for place, entry in enumerate(document["servers"]))


def check_reading(server: Server) -> Server:
    """The reading itself, once it is sure that it can be written and read back.

    Raises:
        FormatError: it can't: a text is too long, a slot stands twice, or something is not what the format says.
    """
    document = {"format": "ordnung.readings/1", "servers": [server_entry(server)]}
    # Not as it is written for people: laying it out costs more than all the rest, and this is done for every reading.
    parse_readings(json.dumps(document, ensure_ascii=False).encode(), server.name)
    return server


def build_server(entry: dict[str, Any], source: str = "reading", place: str = "") -> Server:
    """One server of a document that was checked against the schema. Raises FormatError as above."""
    components = tuple(build_component(item) for item in entry.get("components", ()))
    slots = [component.slot for component in components]
    doubled = next((slot for slot in slots if slots.count(slot) > 1), None)
    if doubled is not None:
        raise FormatError(source, f"{place}.components", f"slot {doubled} stands twice")
    return Server(
        name=entry["name"],
        model=entry.get("model") or "",
        serial=entry.get("serial"),
        group=entry.get("group"),
        rack=entry.get("rack"),
        room=entry.get("room"),
        read_at=_time(entry.get("read_at"), source, f"{place}.read_at"),
        components=components,
        unread=entry.get("unread"),
        uuid=entry.get("uuid"),
        tag=entry.get("tag"),
        facts=_build_facts(entry["facts"], source, f"{place}.facts") if entry.get("facts") else None,
    )


def build_component(item: dict[str, Any]) -> Component:
    """One component of a document that was checked against the schema."""
    return Component(
        slot=item["slot"],
        kind=item["kind"],
        name=item.get("name") or item["slot"],
        software_id=item.get("software_id"),
        version=item["version"] if (item["version"] or "").strip() else None,
        waiting=item.get("waiting"),
        banks=tuple(item.get("banks") or ()),
        can_switch=item.get("can_switch", False),
        can_set_up=item.get("can_set_up", False),
        by_image=item.get("by_image", False),
        shared=item.get("shared", False),
        start=Start(item["start"]) if "start" in item else None,
        updateable=item.get("updateable"),
        pci=item.get("pci"),
        part=item.get("part"),
        origin=item.get("origin", "controller"),
        serial=item.get("serial"),
        uuid=item.get("uuid"),
        maker=item.get("maker"),
        product=item.get("product"),
        health=item.get("health"),
        state=item.get("state"),
        reported=item.get("reported"),
    )


def _build_facts(entry: dict[str, Any], source: str, place: str) -> Facts:
    values = dict(entry)
    licences = [
        Licence(name=o["name"], valid=o["valid"], ends=_day(o.get("ends"), source, f"{place}.licences"))
        for o in values.pop("licences", ())
    ]
    ends = _day(values.pop("certificate_ends", None), source, f"{place}.certificate_ends")
    values |= {name: tuple(values.get(name, ())) for name in _LISTS}
    values |= {name: tuple(values.get(name, {}).items()) for name in _PAIRS}
    return Facts(certificate_ends=ends, licences=tuple(licences), **values)


_LISTS = ("jobs", "rebuilding", "arrays_broken", "feeds_lost", "pulls", "boot_order", "media_inserted")
_PAIRS = ("volumes", "links", "settings", "settings_waiting", "no_reset")


def _day(text: str | None, source: str, place: str) -> datetime.date | None:
    try:
        return datetime.date.fromisoformat(text) if text else None
    except ValueError:
        raise FormatError(source, place, f"{text} is not a date") from None


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
    known = {"rack": server.rack, "room": server.room, "uuid": server.uuid, "tag": server.tag}
    entry |= {key: value for key, value in known.items() if value is not None}
    if server.facts is not None:
        entry["facts"] = _facts_entry(server.facts)
    entry["components"] = [component_entry(component) for component in server.components]
    return entry


def component_entry(c: Component) -> dict[str, Any]:
    """One component as a JSON object; what newer readers added is left out where it is not known."""
    entry: dict[str, Any] = {
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
    optional = {
        "serial": c.serial, "uuid": c.uuid, "maker": c.maker, "product": c.product, "health": c.health,
        "state": c.state, "reported": c.reported, "can_switch": c.can_switch or None,
        "can_set_up": c.can_set_up or None, "by_image": c.by_image or None, "start": c.start,
        "shared": c.shared or None,
    }  # fmt: skip
    return entry | {key: value for key, value in optional.items() if value is not None}


def _facts_entry(facts: Facts) -> dict[str, Any]:
    entry = {
        key: value
        for key, value in dataclasses.asdict(facts).items()
        if not (value is None or value is False or value == ())
    }
    for key in _LISTS:
        if key in entry:
            entry[key] = list(entry[key])
    entry |= {key: dict(entry[key]) for key in _PAIRS if key in entry}
    if facts.certificate_ends:
        entry["certificate_ends"] = facts.certificate_ends.isoformat()
    if facts.licences:
        entry["licences"] = [
            {"name": o.name, "valid": o.valid, **({"ends": o.ends.isoformat()} if o.ends else {})}
            for o in facts.licences
        ]
    return entry
