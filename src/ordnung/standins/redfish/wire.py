"""Requests and replies of a stand-in's service, and how they are spelled."""

from __future__ import annotations

import hashlib
import json
import marshal
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import orjson

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Task
from ordnung.standins.redfish.registries import message
from ordnung.standins.redfish.tree import Resource

HEADERS = {"OData-Version": "4.0", "Cache-Control": "no-cache"}
_VOLATILE = frozenset({"DateTime", "PercentComplete", "Messages"})


@dataclass(frozen=True, slots=True, kw_only=True)
class Request:
    """An HTTP request; header names are lower case. ``parts`` holds a multipart body by part name."""

    method: str
    path: str
    query: Mapping[str, str] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""
    parts: Mapping[str, bytes] | None = None


@dataclass(slots=True, kw_only=True)
class Reply:
    """An HTTP answer, and what the face has to do besides."""

    status: int
    headers: dict[str, str] = field(default_factory=dict)
    body: bytes = b""
    pull: tuple[Task, str] | None = None
    device: Hardware | None = None
    """Whose task that is, where it is not the one that was asked: a second system behind the controller."""
    send: list[tuple[str, Resource]] = field(default_factory=list)
    """(destination, event) to be delivered."""
    stream: bool = False
    lost: bool = False
    """Acted upon, but the answer never arrives."""
    restarts: bool = False
    renews: str | None = None
    """Key and certificate (PEM) that the controller shows from now on."""


Handler = Callable[[Hardware, Request, Resource], Reply]


def etag(body: Resource) -> str:
    """A strong tag over everything that doesn't change by itself."""
    steady = {key: value for key, value in body.items() if key not in _VOLATILE}
    # Version 2 spells equal things equally; it takes a quarter of what JSON does, and a tag goes with every answer.
    return f'"{hashlib.sha256(marshal.dumps(steady, 2)).hexdigest()[:20]}"'


def schema_of(odata_type: str) -> str:
    """Where the schema of a type is published."""
    name = odata_type.lstrip("#").rsplit(".", 1)[0]
    return f"http://redfish.dmtf.org/schemas/v1/{name}.json"


def parse(request: Request) -> Resource | None:
    """The JSON object of a request's body, empty for an upload; None when it is none."""
    if request.parts is not None or request.headers.get("content-type", "").startswith("application/octet-stream"):
        return {}
    return load(request.body or b"{}")


def load(raw: bytes) -> Resource | None:
    """A JSON object, or None."""
    try:
        body = json.loads(raw)
    except (ValueError, RecursionError):
        return None
    return body if isinstance(body, dict) else None


def as_reply(value: Resource, status: int = 200, headers: Mapping[str, str] | None = None) -> Reply:
    """A resource as an answer."""
    spelled = {**HEADERS, "Content-Type": "application/json; charset=utf-8", **(headers or {})}
    return Reply(status=status, headers=spelled, body=spell(value))


def spell(value: Resource) -> bytes:
    """As JSON. What is refused by a strict writer (half a surrogate pair) a stand-in has to be able to say."""
    try:
        return orjson.dumps(value)
    except TypeError:
        return json.dumps(value).encode()


def error(status: int, key: str, *args: str) -> Reply:
    """An error with one message of a registry."""
    return refuse(status, [message(key, *args)])


def put_off(seconds: float) -> Reply:
    """Not now: to be asked for again after so long."""
    reply = error(503, "ServiceTemporarilyUnavailable", f"{seconds:g}")
    reply.headers["Retry-After"] = f"{int(seconds)}"
    return reply


def refuse(status: int, messages: list[Resource]) -> Reply:
    """An error body with extended information (DSP0266, error responses)."""
    first = messages[0]
    error = {"code": first["MessageId"], "message": first["Message"], "@Message.ExtendedInfo": messages}
    return as_reply({"error": error}, status)
