"""What of a controller will matter for updating: its clock, account, licences, jobs, arrays, feeds, ways in."""

from __future__ import annotations

import asyncio
import datetime

from cryptography import x509

from ordnung.controllers.client import Json, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.reader import Reader, is_true
from ordnung.controllers.tree import Found, as_dict, as_list, as_text
from ordnung.core.facts import Facts, Licence, worst_health

_ENDED = ("Completed", "Killed", "Cancelled", "Exception")


async def read_facts(
    reader: Reader,
    root: Json,
    service: Json,
    found: Found,
    began: datetime.datetime,
    user: str,
    certificate: bytes | None,
) -> Facts:
    """Read what the services beside the tree tell; one that is missing or barred is left out.

    Raises:
        ControllerError: the controller can't be used any more.
    """
    licences, account, jobs, rebuilding = await asyncio.gather(
        _licences(reader, root), _account(reader, root, user), _jobs(reader, root), _rebuilding(reader, found)
    )
    pulls, push = ways_in(service)
    account_body = as_dict(next(iter(account), None))
    return Facts(
        power=as_text(found.system.get("PowerState")),
        health=worst_health([_rollup(found.system), *(p.health for p in found.parts)]),
        clock_off_s=_clock_off(found.manager, found.managed_at or began),
        certificate_ends=_ends(certificate),
        role=as_text(account_body.get("RoleId")),
        factory_account=is_true(account_body.get("PasswordChangeRequired")),
        licences=tuple(licences),
        jobs=tuple(jobs),
        rebuilding=tuple(rebuilding),
        feeds_lost=tuple(p.slot for p in found.parts if p.body.get("LineInputStatus") == "LossOfInput"),
        pulls=pulls,
        push=push,
        expands=reader.levels > 0,
    )


def ways_in(service: Json) -> tuple[tuple[str, ...], str | None]:
    """Over what it fetches, and what may be pushed to it, as its update service says."""
    action = as_dict(as_dict(service.get("Actions")).get("#UpdateService.SimpleUpdate"))
    allowed = action.get("TransferProtocol@Redfish.AllowableValues")
    pulls = tuple(str(name).upper() for name in allowed) if isinstance(allowed, list) and action.get("target") else ()
    if as_text(service.get("MultipartHttpPushUri")):
        return pulls, "any"
    return pulls, "own" if as_text(service.get("HttpPushUri")) else None


async def _barred(reader: Reader, path: str | None) -> list[Json]:
    """The members of a collection that this account may not be allowed to see."""
    try:
        return await reader.members(path)
    except ControllerError as error:
        if error.cause in ("no permission", "said no", "malformed answer"):
            return []
        raise


async def _licences(reader: Reader, root: Json) -> list[Licence]:
    service = await reader.find(link_of(root.get("LicenseService"))) or {}
    return [_licence(body) for body in await _barred(reader, link_of(service.get("Licenses")))]


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
    accounts = await _barred(reader, link_of(service.get("Accounts")))
    return [body for body in accounts if as_text(body.get("UserName")) == user]


async def _jobs(reader: Reader, root: Json) -> list[str]:
    """Tasks that wait or run and are no update: someone else's."""
    service = await reader.find(link_of(root.get("Tasks"))) or {}
    tasks = await _barred(reader, link_of(service.get("Tasks")))
    return [
        f"{as_text(task.get('Name')) or 'a job'} ({as_text(task.get('TaskState'))})"
        for task in tasks
        if as_text(task.get("TaskState")) not in (None, *_ENDED)
        and "UpdateService" not in str(as_dict(task.get("Payload")).get("TargetUri"))
    ]


async def _rebuilding(reader: Reader, found: Found) -> list[str]:
    names = []
    for storage in found.storages:
        for volume in await reader.members(link_of(storage.get("Volumes"))):
            for work in as_list(volume.get("Operations")):
                name = as_text(volume.get("Name")) or "a volume"
                told = as_text(work.get("PercentageComplete"))
                names.append(f"{name}: {as_text(work.get('OperationName'))}{f' at {told} %' if told else ''}")
    return names


def _rollup(system: Json) -> str | None:
    status = as_dict(system.get("Status"))
    return as_text(status.get("HealthRollup")) or as_text(status.get("Health"))


def _clock_off(manager: Json, now: datetime.datetime) -> float | None:
    told = as_text(manager.get("DateTime"))
    if told is None:
        return None
    try:
        moment = datetime.datetime.fromisoformat(told)
    except ValueError:
        return None
    moment = moment if moment.tzinfo else moment.replace(tzinfo=datetime.UTC)
    return round((moment - now).total_seconds(), 1)


def _ends(certificate: bytes | None) -> datetime.date | None:
    if certificate is None:
        return None
    try:
        return x509.load_der_x509_certificate(certificate).not_valid_after_utc.date()
    except ValueError:
        return None
