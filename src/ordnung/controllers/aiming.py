"""What an update names as what it is for, and whether nothing else can be written by it.

The UpdateService schema leaves it to the service what ``Targets`` of an update may name: inventory members, what they
are the firmware of, or nothing, when it decides by the image what is written.
"""

from __future__ import annotations

from ordnung.controllers.answers import Json, as_list, as_path, as_text, is_true, link_of
from ordnung.controllers.banks import images_of_all
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.inventory import find_entry, is_standby
from ordnung.controllers.session import Session
from ordnung.controllers.types import Aim, Reach
from ordnung.controllers.update_service import read_service

LISTS = ("FirmwareInventory", "SoftwareInventory")


async def target_of(session: Session, slot: str) -> str:
    """The inventory member that stands for a slot, of two images the one that runs. Raises ControllerError without one.

    The list of an inventory mostly tells already which it is; its members are read only where it does not.
    """
    service = await read_service(session)
    lists = [link_of(service.get(name)) for name in LISTS]
    for path in lists:
        for member in await session.listed(path):
            named = member if isinstance(member, str) else link_of(member)
            if named is not None and named.rstrip("/").rsplit("/", 1)[-1] == slot:
                return await _running(session, named)
    for path in lists:
        entry = find_entry(await session.members(path), slot)
        if entry is not None:
            return await _running(session, link_of(entry) or "")
    raise ControllerError(session.endpoint.name, "said no", f"{slot} is not in its inventory any more")


async def _running(session: Session, path: str) -> str:
    """The image that runs of those that this one belongs to; itself where none is told."""
    if not is_standby(await session.find(path) or {}):
        return path
    for images in await images_of_all(session):
        if path.rstrip("/") in (image.rstrip("/") for image in images):
            entries = [(image, await session.find(image)) for image in images]
            return next((image for image, entry in entries if entry is not None and not is_standby(entry)), path)
    return path


async def aim_at(session: Session, reach: Reach, way: str, slot: str) -> Aim:
    """How an update is aimed at a slot, by what the service lets be named.

    Raises:
        ControllerError: the slot is not there any more, or what is sent would go elsewhere (said no, busy).
    """
    path, is_pull = await target_of(session, slot), way.startswith("pull")
    if not is_pull and reach.push_uri is None:
        return Aim(target=path, is_sure=await _is_for(session, path))
    if reach.targets is None or path.rstrip("/") in reach.targets:
        return Aim(target=path, is_sure=True)
    if not reach.targets:  # what is pushed may name one all the same: nothing but a try tells
        return Aim(target="" if is_pull else path, is_sure=not is_pull)
    related = [link for link in related_to(await session.find(path) or {}) if link.rstrip("/") in reach.targets]
    if len(related) != 1:
        raise ControllerError(session.endpoint.name, "said no", f"it lets no image be sent to {slot}")
    return Aim(target=related[0], is_sure=await _is_its_own(session, related[0]))


def related_to(entry: Json) -> list[str]:
    """What an inventory member says that it is the firmware of."""
    return [link for item in as_list(entry.get("RelatedItem")) if (link := link_of(item)) is not None]


_WHOLE = ("Chassis", "ComputerSystem")
"""What has much in it that carries firmware: named as a target, it tells nothing of which of that is meant."""


async def _is_its_own(session: Session, related: str) -> bool:
    """Whether it is one thing with firmware of its own, by its kind and by what else the inventory has for it."""
    kind = (as_text((await session.find(related) or {}).get("@odata.type")) or "").lstrip("#").partition(".")[0]
    service = await read_service(session)
    entries = [entry for name in LISTS for entry in await session.members(link_of(service.get(name)))]
    return kind not in _WHOLE and sum(related in related_to(e) for e in entries if not is_standby(e)) == 1


async def _is_for(session: Session, path: str) -> bool:
    """Whether an image that is pushed alone can be for nothing but this, which is so for the controller itself alone.

    Raises:
        ControllerError: another client has set what such images are for, or is about to (UpdateService schema,
            ``HttpPushUriTargets`` and ``HttpPushUriTargetsBusy``).
    """
    service, name = await read_service(session), session.endpoint.name
    if is_true(service.get("HttpPushUriTargetsBusy")):
        raise ControllerError(name, "busy", "another client keeps its push of images to itself")
    set_to = service.get("HttpPushUriTargets")
    set_to = [as_path(target) for target in set_to] if isinstance(set_to, list) else []
    if set_to not in ([], [path]):
        raise ControllerError(name, "said no", "somebody has set that images pushed to it go elsewhere")
    return bool(set_to) or any("/Managers/" in link for link in related_to(await session.find(path) or {}))
