"""Look at many addresses: who answers there, and is it someone we know already? Stores nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

from ordnung.controllers import Client, ControllerError, Endpoint
from ordnung.controllers.identity import Identity, identify

AT_ONCE = 128
DEADLINE_S = 30.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """A server that is in the house already."""

    name: str
    url: str
    uuid: str | None = None
    serial: str | None = None
    pin: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Looked:
    """What came of one address. ``cause`` is one of ``CAUSES`` when nobody usable answered."""

    url: str
    identity: Identity | None = None
    cause: str | None = None
    detail: str = ""


Told = Callable[[Looked], Awaitable[None]]


async def look(endpoints: Sequence[Endpoint], client: Client, pins: frozenset[str], told: Told) -> None:
    """Look at every address once; each result is handed on the moment it is there."""
    gate = asyncio.Semaphore(AT_ONCE)

    async def one(endpoint: Endpoint) -> None:
        async with gate:
            result = await look_at(endpoint, client, pins)
        await told(result)

    await asyncio.gather(*(one(endpoint) for endpoint in endpoints))


async def look_at(endpoint: Endpoint, client: Client, pins: frozenset[str]) -> Looked:
    """One address, its failure as a value."""
    try:
        async with asyncio.timeout(DEADLINE_S):
            return Looked(url=endpoint.url, identity=await identify(client, endpoint, pins))
    except ControllerError as error:
        return Looked(url=endpoint.url, cause=error.cause, detail=error.detail)
    except TimeoutError:
        return Looked(url=endpoint.url, cause="too slow", detail=f"no answer within {DEADLINE_S:g} s")


def match_known(identity: Identity, url: str, known: Iterable[Known]) -> tuple[Known | None, bool]:
    """The server of the house that this is, and whether it has moved: by UUID or serial, or by certificate.

    Never by address, since another server may have taken it; only one that was never read, and of which nothing
    but its address is known, is taken for the server at that address.
    """
    unread = None
    for server in known:
        same = ((identity.uuid, server.uuid), (identity.serial, server.serial), (identity.pin, server.pin))
        if any(a and b and a.lower() == b.lower() for a, b in same):
            return server, server.url != url
        if server.url == url and not server.uuid and not server.serial:
            unread = server
    return unread, False


def find_doubles(found: Mapping[str, Identity]) -> dict[str, str]:
    """Addresses behind which the same server answers as at an earlier one: url to the earlier url."""
    first: dict[str, str] = {}
    doubles: dict[str, str] = {}
    for url, identity in found.items():
        key = identity.uuid or identity.serial or identity.pin
        if first.setdefault(key, url) != url:
            doubles[url] = first[key]
    return doubles
