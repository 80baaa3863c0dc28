"""Query parameters: ``$expand``, ``$select``, ``$top`` and ``$skip``, as far as the generation offers them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from ordnung.standins.hardware import Hardware
from ordnung.standins.redfish.accounts import MAX_LEVELS
from ordnung.standins.redfish.tree import V1, Resource, find_resource

PAGE = 2
"""Members of a page where a controller pages by itself."""
_NESTS = (dict, list)
_EXPAND = re.compile(r"^([.~*])(?:\(\$levels=(\d+)\))?$")


class QueryError(Exception):
    """A query that is not understood or not offered: ``key`` and ``args`` name the message, ``status`` the answer."""

    def __init__(self, status: int, key: str, *args: str) -> None:
        self.status, self.key, self.arguments = status, key, args
        super().__init__(key)


def apply_query(device: Hardware, body: Resource, query: Mapping[str, str]) -> Resource:
    """The resource as the query wants it. Raises QueryError."""
    known = {"$expand", "$select", "$top", "$skip"} if device.generation == "newest" else set()
    pages = "paged" in device.quirks and "Members" in body
    if pages:
        known = known | {"$skip"}
    for name in query:
        if name.startswith("$") and name not in known:
            raise QueryError(501, "QueryNotSupported")
    if "Members" in body:
        body = _page(body, query, PAGE if pages and "$expand" not in query else None)
    if "$expand" in query:
        if "expand broken" in device.quirks:
            raise QueryError(500, "GeneralError", "expanding failed")
        body = _expand(device, body, query["$expand"])
    if "$select" in query:
        names = {name.strip().split("/")[0] for name in query["$select"].split(",")}
        body = {k: v for k, v in body.items() if k.startswith("@odata") or k.split("@")[0] in names}
    return body


def _number(query: Mapping[str, str], name: str) -> int | None:
    if name not in query:
        return None
    if not re.fullmatch(r"-?\d+", query[name]):
        raise QueryError(400, "QueryParameterValueTypeError", query[name], name)
    if int(query[name]) < 0:
        raise QueryError(400, "QueryParameterOutOfRange", query[name], name, "0 and more")
    return int(query[name])


def _page(body: Resource, query: Mapping[str, str], page: int | None) -> Resource:
    skip, top = _number(query, "$skip") or 0, _number(query, "$top")
    members = body["Members"]
    size = page if page is not None else top
    shown = members[skip:] if size is None else members[skip : skip + size]
    body = {**body, "Members": shown}
    if page is not None and skip + page < len(members):
        body["Members@odata.nextLink"] = f"{body['@odata.id']}?$skip={skip + page}"
    return body


def _expand(device: Hardware, body: Resource, value: str) -> Resource:
    match = _EXPAND.match(value)
    if match is None:
        raise QueryError(400, "QueryParameterValueTypeError", value, "$expand")
    levels = int(match[2] or 1)
    if not 1 <= levels <= MAX_LEVELS:
        raise QueryError(400, "QueryParameterOutOfRange", value, "$expand", f"1 to {MAX_LEVELS}")
    return _grow(device, body, levels, match[1])


def _grow(device: Hardware, body: Resource, levels: int, kind: str) -> Resource:
    """Put the resources themselves where links to them stand: ``.`` not below Links, ``~`` only there."""

    def visit(value: Any, in_links: bool) -> Any:
        if isinstance(value, list):
            return [visit(item, in_links) if isinstance(item, _NESTS) else item for item in value]
        if len(value) != 1 or "@odata.id" not in value:
            return inside(value, in_links)
        chosen = kind == "*" or (kind == "~") == in_links
        found = find_resource(device, value["@odata.id"]) if chosen and "#" not in value["@odata.id"] else None
        return value if found is None else (_grow(device, found, levels - 1, kind) if levels > 1 else found)

    def inside(value: Resource, in_links: bool) -> Resource:
        return {
            k: visit(v, in_links or k == "Links") if k != "Actions" and isinstance(v, _NESTS) else v
            for k, v in value.items()
        }

    return inside(body, False)


def is_open(path: str) -> bool:
    """Whether a path may be read without signing in (DSP0266)."""
    return path in ("/redfish", V1, f"{V1}/odata", f"{V1}/$metadata")
