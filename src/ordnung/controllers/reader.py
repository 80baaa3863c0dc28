"""Reads resources once each; where the controller offers ``$expand``, many with one request (DSP0266)."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Iterable
from typing import Any, Protocol, TypeVar

from ordnung.controllers.answers import Json, MalformedError, as_dict, as_number, follow_members, is_true, link_of
from ordnung.controllers.errors import ControllerError

T = TypeVar("T")
MEMBERS = 2000


class Line(Protocol):
    """What a reader needs of a session."""

    async def find(self, path: str | None) -> Json | None: ...


_NESTS = (dict, list)
"""A union would be made anew each time it is asked for: ten times as slow, and this is asked of every value."""
_ONLY_THIS = ("no permission", "said no", "malformed answer")
"""Causes for which one resource can't be read and others can."""


class Reader:
    """One look at a controller: nothing is asked twice."""

    def __init__(self, line: Line, name: str) -> None:
        self.line, self.name = line, name
        self.levels = 0
        """How many levels may be expanded at once; 0: not offered."""
        self._known: dict[str, Json | None] = {}

    async def root(self) -> Json:
        """The service root; what it offers is used from now on. Raises ControllerError (not Redfish) without one."""
        root = await self.find("/redfish/v1/")
        if root is None or ("Systems" not in root and "RedfishVersion" not in root):
            raise ControllerError(self.name, "not Redfish", "it has no service root")
        query = as_dict(as_dict(root.get("ProtocolFeaturesSupported")).get("ExpandQuery"))
        if is_true(query.get("NoLinks")):
            self.levels = as_number(query.get("MaxLevels")) or 1
        return root

    async def find(self, path: str | None, levels: int = 0) -> Json | None:
        """The resource at a path, or None when there is none; ``levels`` below it come along where offered."""
        if path is None:
            return None
        key = _key(path)
        if key in self._known:
            return self._known[key]
        depth = min(levels, self.levels)
        body = await self._expanded(path, depth) if depth else None
        if body is None:
            body = await self.line.find(path)
        self._keep(body, key)
        return body

    async def _expanded(self, path: str, levels: int) -> Json | None:
        try:
            return await self.line.find(f"{path}?$expand=.($levels={levels})")
        except ControllerError as error:
            if error.cause not in ("said no", "malformed answer"):
                raise
            self.levels = 0  # advertised, but it doesn't work: one by one, then
            return None

    async def members(self, path: str | None, levels: int = 1) -> list[Json]:
        """The members of a collection, those that are there. A collection that is missing has none."""

        async def one(at: str) -> Json | None:
            return await self.find(at, 0 if "?" in at else levels)

        try:
            members = await follow_members(one, path, MEMBERS)
        except MalformedError as error:
            raise ControllerError(self.name, "malformed answer", str(error)) from None
        unread = [member for member in members if isinstance(member, str) and _key(member) not in self._known]
        await gather(self.find(member) for member in unread)
        found = [self._known[_key(member)] if isinstance(member, str) else member for member in members]
        return [body for body in found if body is not None]

    async def allowed(self, path: str | None) -> Json:
        """A resource that need not be there, and that this account may not be allowed to see: empty then."""
        try:
            return await self.find(path) or {}
        except ControllerError as error:
            if error.cause not in _ONLY_THIS:
                raise
            return {}

    async def allowed_members(self, path: str | None) -> list[Json]:
        """The members of such a collection."""
        try:
            return await self.members(path)
        except ControllerError as error:
            if error.cause not in _ONLY_THIS:
                raise
            return []

    def _keep(self, body: Json | None, key: str) -> None:
        self._known[key] = body
        if body is None:
            return
        todo: list[Any] = [value for value in body.values() if isinstance(value, _NESTS)]
        while todo:
            value = todo.pop()
            if isinstance(value, dict):
                path = link_of(value)
                if path is not None and len(value) > 1 and "#" not in path:
                    self._known.setdefault(_key(path), value)
                value = value.values()
            todo += [inner for inner in value if isinstance(inner, _NESTS)]


async def gather(jobs: Iterable[Awaitable[T]]) -> list[T]:
    """All results in order; the first error ends it."""
    return list(await asyncio.gather(*jobs))


def _key(path: str) -> str:
    return path.rstrip("/")
