"""What of a controller will matter for updating: its clock, account, licences, jobs, arrays, feeds, ways in."""

from __future__ import annotations

import asyncio
import datetime
from collections.abc import Iterable

from cryptography import x509

from ordnung.controllers.actions import allowed_values
from ordnung.controllers.answers import (
    Json,
    as_dict,
    as_list,
    as_number,
    as_text,
    is_true,
    link_of,
)
from ordnung.controllers.belonging import places_to_cycle
from ordnung.controllers.next_start import read_next_start
from ordnung.controllers.reader import Reader
from ordnung.controllers.reset import Places, boot_told, find_missing_resets, time_told
from ordnung.controllers.surroundings import as_pairs, read_surroundings
from ordnung.controllers.tasks import LISTS, is_scheduled
from ordnung.controllers.tree import Found
from ordnung.core.facts import Facts, Licence, worst_health
from ordnung.core.start_times import parse_moment

MOST = 200
_ENDED = ("Completed", "Killed", "Cancelled", "Exception", "Invalid")


async def read_facts(
    reader: Reader,
    root: Json,
    service: Json,
    found: Found,
    began: datetime.datetime,
    user: str,
    certificate: bytes | None,
    partitions: frozenset[str] = frozenset(),
) -> Facts:
    """Read what the services beside the tree tell; one that is missing or barred is left out.

    Args:
        partitions: paths of what service partitions lie on: no arrays, whose state would bar an update.

    Raises:
        ControllerError: the controller can't be used any more.
    """
    licences, account, jobs, volumes, around, start = await asyncio.gather(
        _licences(reader, root), _account(reader, root, user), _jobs(reader, root), _volumes(reader, found, partitions),
        read_surroundings(reader, found), read_next_start(reader, found),
    )  # fmt: skip
    pulls, push = await read_ways_in(reader, service)
    to_cycle = places_to_cycle(found.system, found.everywhere, has_others=found.others > 0)
    places = Places(system=found.system, manager=found.manager, chassis=to_cycle)
    account_body = as_dict(next(iter(account), None))
    return Facts(
        power=as_text(found.system.get("PowerState")),
        boot=boot_told(found.system),
        health=worst_health([_rollup(found.system), *(p.health for p in found.parts)]),
        clock_off_s=_clock_off(found.manager, found.managed_at or began),
        certificate_ends=_ends(certificate),
        role=as_text(account_body.get("RoleId")),
        factory_account=is_true(account_body.get("PasswordChangeRequired")),
        licences=tuple(licences),
        jobs=_few(jobs),
        rebuilding=_few(text for volume in volumes for text in _rebuilding(volume)),
        arrays_broken=_few(text for volume in volumes if (text := _broken(volume)) is not None),
        locked=_locked(service),
        largest_image=as_number(service.get("MaxImageSizeBytes")),
        feeds_lost=_few(p.slot for p in found.parts if p.body.get("LineInputStatus") == "LossOfInput"),
        pulls=pulls,
        push=push,
        expands=reader.levels > 0,
        volumes=as_pairs(map(_volume_state, volumes)),
        links=around.links,
        boot_order=around.boot_order,
        next_start=start.target,
        next_start_stays=start.stays,
        media_inserted=_few(start.media),
        settings=around.settings,
        settings_waiting=around.settings_waiting,
        started=time_told(found.system.get("LastResetTime")),
        controller_started=time_told(found.manager.get("LastResetTime")),
        no_reset=await find_missing_resets(reader.allowed, places),
    )


async def read_ways_in(reader: Reader, service: Json) -> tuple[tuple[str, ...], str | None]:
    """Over what it fetches, and what may be pushed to it, as its update service says.

    One that fetches and tells nowhere over what is taken to do so over HTTPS where it can't be pushed to: that is
    found out by asking.
    """
    action = as_dict(as_dict(service.get("Actions")).get("#UpdateService.SimpleUpdate"))
    told = await allowed_values(reader.allowed, action, "TransferProtocol") if action.get("target") else ()
    if as_text(service.get("MultipartHttpPushUri")):
        return _few(name.upper() for name in told or ()), "any"
    pulls = ("HTTPS",) if told is None else _few(name.upper() for name in told)
    return pulls, "own" if as_text(service.get("HttpPushUri")) else None


async def _licences(reader: Reader, root: Json) -> list[Licence]:
    service = await reader.find(link_of(root.get("LicenseService"))) or {}
    return [_licence(body) for body in await reader.allowed_members(link_of(service.get("Licenses")))]


def _licence(body: Json) -> Licence:
    name = as_text(body.get("Name")) or as_text(body.get("Id")) or "licence"
    state = as_text(as_dict(body.get("Status")).get("State"))
    ends = (as_text(body.get("ExpirationDate")) or "")[:10]
    return Licence(name=name, valid=state in (None, "Enabled"), ends=_date(ends))


def _date(text: str) -> datetime.date | None:
    try:
        return datetime.date.fromisoformat(text)
    except ValueError:
        return None


async def _account(reader: Reader, root: Json, user: str) -> list[Json]:
    if not user:
        return []
    service = await reader.find(link_of(root.get("AccountService"))) or {}
    accounts = await reader.allowed_members(link_of(service.get("Accounts")))
    return [body for body in accounts if as_text(body.get("UserName")) == user]


async def _jobs(reader: Reader, root: Json) -> list[str]:
    """Tasks and jobs that wait or run and are no update: someone else's. What comes by the clock is none of them."""
    services = [(await reader.allowed(link_of(root.get(where))), name) for where, name in LISTS]
    lists = [await reader.allowed_members(link_of(service.get(name))) for service, name in services]
    return [
        f"{as_text(task.get('Name')) or 'a job'} ({state})"
        for tasks in lists
        for task in tasks
        if (state := as_text(task.get("TaskState")) or as_text(task.get("JobState"))) not in (None, *_ENDED)
        and not is_scheduled(task)
        and "UpdateService" not in str(as_dict(task.get("Payload")).get("TargetUri"))
    ]


async def _volumes(reader: Reader, found: Found, partitions: frozenset[str]) -> list[Json]:
    lists = [await reader.members(link_of(storage.get("Volumes"))) for storage in found.storages]
    return [v for volumes in lists for v in volumes if (link_of(v) or "").rstrip("/") not in partitions]


def _rebuilding(volume: Json) -> list[str]:
    name = as_text(volume.get("Name")) or "a volume"
    lines = []
    for work in as_list(volume.get("Operations")):
        percent = as_text(work.get("PercentageComplete"))
        lines.append(f"{name}: {as_text(work.get('OperationName'))}{f' at {percent} %' if percent else ''}")
    return lines


def _broken(volume: Json) -> str | None:
    """A volume that has lost its redundancy, unless it is being rebuilt (which is told apart)."""
    status = as_dict(volume.get("Status"))
    health, state = as_text(status.get("Health")), as_text(status.get("State"))
    if as_list(volume.get("Operations")) or (
        health in (None, "OK") and state not in ("Degraded", "UnavailableOffline")
    ):
        return None
    return f"{as_text(volume.get('Name')) or 'a volume'} is {(health if health != 'OK' else state) or state}"


def _volume_state(volume: Json) -> tuple[str, str | None]:
    """Its health, or the state it is in where that says more."""
    status = as_dict(volume.get("Status"))
    state, health = as_text(status.get("State")), as_text(status.get("Health"))
    return as_text(volume.get("Name")) or as_text(volume.get("Id")) or "a volume", (
        health if state in (None, "Enabled") else state
    )


def _locked(service: Json) -> str | None:
    enabled = service.get("ServiceEnabled")
    is_off = enabled is False or (isinstance(enabled, str) and enabled.strip().lower() == "false")
    state = as_text(as_dict(service.get("Status")).get("State"))
    if is_off or state == "Disabled":
        return "its update service is switched off"
    return None


def _few(texts: Iterable[str]) -> tuple[str, ...]:
    """At most as many as the readings' format takes, the last of them saying how many more there are."""
    found = list(texts)
    return tuple(found) if len(found) <= MOST else (*found[: MOST - 1], f"and {len(found) - MOST + 1} more")


def _rollup(system: Json) -> str | None:
    status = as_dict(system.get("Status"))
    return as_text(status.get("HealthRollup")) or as_text(status.get("Health"))


def _clock_off(manager: Json, now: datetime.datetime) -> float | None:
    moment = parse_moment(as_text(manager.get("DateTime")))
    return None if moment is None else round((moment - now).total_seconds(), 1)


def _ends(certificate: bytes | None) -> datetime.date | None:
    if certificate is None:
        return None
    try:
        return x509.load_der_x509_certificate(certificate).not_valid_after_utc.date()
    except ValueError:
        return None
