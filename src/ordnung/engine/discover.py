"""Look at many addresses: who answers there, and is it someone we know already? Stores nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from ordnung.controllers import Client, ControllerError, Endpoint
from ordnung.controllers.identity import Identity, identify
from ordnung.core.same_server import is_same_uuid, usable_serial, usable_uuid
from ordnung.engine.survey import own_error

AT_ONCE = 128
DEADLINE_S = 30.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """A server that is in the house already. ``system`` is its own system's path behind a controller of several."""

    name: str
    url: str
    uuid: str | None = None
    serial: str | None = None
    system: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Sighting:
    """What came of one address: who is there, one for each system behind it. ``cause`` is one of ``CAUSES`` when
    nobody usable answered.
    """

    url: str
    identities: tuple[Identity, ...] = ()
    cause: str | None = None
    detail: str = ""


Report = Callable[[Sighting], Awaitable[None]]


async def look(endpoints: Sequence[Endpoint], client: Client, report: Report) -> None:
    """Look at every address once; each result is handed on the moment it is there."""
    gate = asyncio.Semaphore(AT_ONCE)

    async def one(endpoint: Endpoint) -> None:
        async with gate:
            result = await look_at(endpoint, client)
        await report(result)

    async with asyncio.TaskGroup() as group:
        for endpoint in endpoints:
            group.create_task(one(endpoint))


async def look_at(endpoint: Endpoint, client: Client) -> Sighting:
    """One address, its failure as a value, an error of our own included."""
    try:
        async with asyncio.timeout(DEADLINE_S):
            return Sighting(url=endpoint.url, identities=await identify(client, endpoint))
    except ControllerError as error:
        return Sighting(url=endpoint.url, cause=error.cause, detail=error.detail)
    except TimeoutError:
        return Sighting(url=endpoint.url, cause="too slow", detail=f"no answer within {DEADLINE_S:g} s")
    except Exception as error:
        failure = own_error(endpoint.url, error)
        return Sighting(url=endpoint.url, cause=failure.cause, detail=failure.detail)


class IdentityStanding(StrEnum):
    """What is known of a server that answered somewhere."""

    NEW = "new"
    KNOWN = "known"
    MOVED = "moved"
    UNCERTAIN = "uncertain"
    """It looks like a known one, but not so that it can be told for certain: a person decides."""


def match_known(identity: Identity, url: str, known: Iterable[Known]) -> tuple[Known | None, IdentityStanding]:
    """The server of the house that this is: by its system's UUID, then by its serial; never by a certificate alone.

    Factories ship equal certificates, zero UUIDs and blank serials: those tell nothing, and neither does an
    identifier that several servers of the house share. Only one that was never read, of which nothing but its
    address is known, is taken for the server at that address. What can't be told apart is never moved by itself.
    """
    servers = list(known)
    for own, theirs, is_one in (
        (usable_uuid(identity.uuid), _uuid_of, is_same_uuid),
        (usable_serial(identity.serial), _serial_of, str.__eq__),
    ):
        same = [s for s in servers if own is not None and (its := theirs(s)) is not None and is_one(own, its)]
        if len(same) == 1:
            at_home = same[0].url == url and same[0].system in (None, identity.system)
            return same[0], IdentityStanding.KNOWN if at_home else IdentityStanding.MOVED
        if same:
            here = next((server for server in same if server.url == url), None)
            return here or same[0], IdentityStanding.KNOWN if here else IdentityStanding.UNCERTAIN
    there = [s for s in servers if s.url == url and s.system in (None, identity.system)]
    unread = next((s for s in there if _uuid_of(s) is None and _serial_of(s) is None), None)
    if unread is not None:
        return unread, IdentityStanding.KNOWN
    if there and usable_uuid(identity.uuid) is None and usable_serial(identity.serial) is None:
        return there[0], IdentityStanding.UNCERTAIN
    return None, IdentityStanding.NEW


def _uuid_of(server: Known) -> str | None:
    return usable_uuid(server.uuid)


def _serial_of(server: Known) -> str | None:
    return usable_serial(server.serial)


Where = tuple[str, str | None]
"""An address and, behind a controller of several, the system's path."""


def find_doubles(found: Mapping[Where, Identity]) -> dict[Where, Where]:
    """Where the same server answers as at an earlier one; what has no identity of its own is nobody's double."""
    first: dict[str, Where] = {}
    doubles: dict[Where, Where] = {}
    for where, identity in found.items():
        key = usable_uuid(identity.uuid) or usable_serial(identity.serial)
        if key is not None and first.setdefault(key, where) != where:
            doubles[where] = first[key]
    return doubles
