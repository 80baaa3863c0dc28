"""The tree of resources: which function builds what stands at a path."""

from __future__ import annotations

import copy
import functools
from collections.abc import Callable, Iterable
from typing import Any

from ordnung.standins.hardware import Hardware
from ordnung.standins.redfish import second
from ordnung.standins.redfish.quirks import apply_quirks

V1 = "/redfish/v1"
Resource = dict[str, Any]
Builder = Callable[..., Resource | None]

_routes: dict[int, list[tuple[tuple[str, ...], Builder]]] = {}
SCHEMAS: dict[str, str] = {}
"""The schema versions in use, by type: for ``$metadata`` and the index of schemas."""
OK = {"State": "Enabled", "Health": "OK"}


def resource(path: str, kind: str, version: str, name: str = "") -> Callable[[Builder], Builder]:
    """Register a builder for a path below the root; ``{x}`` binds one segment. None means: not there."""
    SCHEMAS[kind] = version

    def register(build: Builder) -> Builder:
        def whole(device: Hardware, at: str, *args: str) -> Resource | None:
            body = build(device, *args)
            if body is None:
                return None
            own = body.pop("Name", None) or name or kind
            return {
                "@odata.id": at,
                "@odata.type": f"#{kind}.{version}.{kind}",
                "Id": at.rsplit("/", 1)[-1],
                "Name": own,
                **body,
            }

        _add(path, whole)
        return build

    return register


def collection(path: str, kind: str) -> Callable[[Callable[..., Iterable[str] | None]], Builder]:
    """Register a collection; the builder gives the names of its members, or None: not there."""

    def register(names: Callable[..., Iterable[str] | None]) -> Builder:
        def whole(device: Hardware, at: str, *args: str) -> Resource | None:
            members = names(device, *args)
            if members is None:
                return None
            links: list[Resource] = [link(f"{at}/{member}") for member in members]
            if "inline members" in device.quirks and kind == "PowerSupply":
                links = [{"Id": m, **(find_resource(device, f"{at}/{m}") or {})} for m in members]
            return {
                "@odata.id": at,
                "@odata.type": f"#{kind}Collection.{kind}Collection",
                "Name": f"{kind} collection",
                "Members": links,
                "Members@odata.count": len(links),
            }

        _add(path, whole)
        return whole

    return register


def _add(path: str, build: Builder) -> None:
    pattern = tuple(path.split("/")) if path else ()
    _routes.setdefault(len(pattern), []).append((pattern, build))


def find_resource(device: Hardware, path: str) -> Resource | None:
    """The resource at ``path`` (without a trailing slash) as the device tells it now, or None."""
    if device.beside is None or device.is_second:
        return _find(device, path)
    if (own := second.spell_back(path)) != path:
        found = _find(device.beside, own)
        return None if found is None else second.tell_anew(found)
    found = _find(device, path)
    if found is not None and path in second.SHARED_LISTS:
        more = second.tell_anew(_find(device.beside, path) or {})
        found["Members"] = [*found["Members"], *more.get("Members", ())]
        found["Members@odata.count"] = len(found["Members"])
    return found


def _find(device: Hardware, path: str) -> Resource | None:
    device.advance()
    if path != V1 and not path.startswith(f"{V1}/"):
        return None
    for build, args in _builders(path):
        found = build(device, path, *args)
        if found is not None:
            merge(found, device.patched.get(path, {}))
            return apply_quirks(device, found)
    return None


@functools.lru_cache(maxsize=8192)
def _builders(path: str) -> tuple[tuple[Builder, tuple[str, ...]], ...]:
    """What may stand at a path, with what its segments bind; the same for every device."""
    segments = tuple(path[len(V1) + 1 :].split("/")) if path != V1 else ()
    return tuple(
        (build, tuple(s for p, s in zip(pattern, segments, strict=True) if p[0] == "{"))
        for pattern, build in _routes.get(len(segments), ())
        if all(p == s or p[0] == "{" for p, s in zip(pattern, segments, strict=True))
    )


def merge(into: Resource, changes: Resource) -> None:
    """Lay changes over a resource, object by object (DSP0266, PATCH)."""
    for key, value in changes.items():
        if isinstance(value, dict) and isinstance(into.get(key), dict):
            into[key] = dict(into[key])
            merge(into[key], value)
        else:
            into[key] = copy.deepcopy(value)


def link(path: str) -> dict[str, str]:
    """A reference to another resource."""
    return {"@odata.id": path}
