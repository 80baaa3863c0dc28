"""A second system behind one controller: resources, updates and resets of its own; sign-in and manager are shared.

The second system is hardware like any other, told by the same builders. What it tells is spelled anew: it is system
and chassis 2, and its inventory and its tasks are marked so that no name stands twice.
"""

from __future__ import annotations

import dataclasses
import json
import re
from typing import TYPE_CHECKING, Any

from ordnung.standins.hardware import Hardware

if TYPE_CHECKING:
    from ordnung.standins.redfish.wire import Reply, Request

V1 = "/redfish/v1"
MARK = "b-"
"""Stands before the names of the second system's inventory and tasks."""
_SPELLED_ANEW = (
    (re.compile(rf"{V1}/(Systems|Chassis)/1\b"), rf"{V1}/\1/2"),
    (re.compile(rf"{V1}/UpdateService/(Firmware|Software)Inventory/(?=\w)"), rf"{V1}/UpdateService/\1Inventory/{MARK}"),
    (re.compile(rf"{V1}/(TaskService/Tasks|TaskMonitors)/(?=\d)"), rf"{V1}/\1/{MARK}"),
)
_SPELLED_BACK = (
    (re.compile(rf"{V1}/(Systems|Chassis)/2\b"), rf"{V1}/\1/1"),
    (re.compile(rf"{V1}/UpdateService/(Firmware|Software)Inventory/{MARK}"), rf"{V1}/UpdateService/\1Inventory/"),
    (re.compile(rf"{V1}/(TaskService/Tasks|TaskMonitors)/{MARK}"), rf"{V1}/\1/"),
)
SHARED_LISTS = frozenset(
    f"{V1}/{name}"
    for name in (
        "Systems",
        "Chassis",
        "UpdateService/FirmwareInventory",
        "UpdateService/SoftwareInventory",
        "TaskService/Tasks",
    )
)
"""Collections in which both systems have members."""


def spell_anew(text: str) -> str:
    """Paths of the second system as its controller tells them."""
    for found, new in _SPELLED_ANEW:
        text = found.sub(new, text)
    return text


def spell_back(text: str) -> str:
    """Paths that the controller told, as the second system's own model knows them."""
    for found, new in _SPELLED_BACK:
        text = found.sub(new, text)
    return text


def tell_anew(body: dict[str, Any]) -> dict[str, Any]:
    """A resource of the second system as its controller tells it."""
    resource: dict[str, Any] = json.loads(spell_anew(json.dumps(body)))
    if "Id" in resource and "@odata.id" in resource:
        resource["Id"] = resource["@odata.id"].rsplit("/", 1)[-1]
    return resource


def is_meant(device: Hardware, request: Request) -> bool:
    """Whether a request is for the second system: by its path, or by the targets of an update."""
    if device.beside is None:
        return False
    document = request.body if request.parts is None else request.parts.get("UpdateParameters", b"")
    return spell_back(request.path) != request.path or f"Inventory/{MARK}".encode() in document


def turn(request: Request) -> Request:
    """The request as the second system's own model takes it."""
    parts = dict(request.parts) if request.parts is not None else None
    if parts and "UpdateParameters" in parts:
        parts["UpdateParameters"] = spell_back(parts["UpdateParameters"].decode(errors="replace")).encode()
    body = spell_back(request.body.decode(errors="replace")).encode() if request.body.startswith(b"{") else request.body
    return dataclasses.replace(request, path=spell_back(request.path), body=body, parts=parts)


def turn_back(device: Hardware, reply: Reply) -> Reply:
    """Its reply as the controller gives it."""
    reply.device = device.beside
    reply.restarts = device.is_away
    if "Location" in reply.headers:
        reply.headers["Location"] = spell_anew(reply.headers["Location"])
    if reply.body:
        reply.body = json.dumps(tell_anew(json.loads(reply.body))).encode()
    return reply
