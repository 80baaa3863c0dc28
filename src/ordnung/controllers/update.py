"""Bring a payload to a controller (DSP2062: push by multipart, or SimpleUpdate)."""

from __future__ import annotations

import json
from pathlib import Path

import aiohttp

from ordnung.controllers.actions import allowed_values, apply_times
from ordnung.controllers.answers import Json, as_dict, as_list, as_number, as_path, link_of
from ordnung.controllers.banks import images_of_all
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.inventory import find_entry, is_standby
from ordnung.controllers.session import ROOT, Session
from ordnung.controllers.tasks import read_accepted
from ordnung.controllers.types import Accepted, Reach


async def read_reach(session: Session) -> Reach:
    """What this controller can do, by reading its update service."""
    service = await read_service(session)
    action = as_dict(as_dict(service.get("Actions")).get("#UpdateService.SimpleUpdate"))
    pulls = await allowed_values(session.find, action, "TransferProtocol")
    return Reach(
        push_uri=as_path(service.get("MultipartHttpPushUri")),
        pull_target=as_path(action.get("target")),
        pulls=None if pulls is None else tuple(name.upper() for name in pulls),
        max_image_bytes=as_number(service.get("MaxImageSizeBytes")),
        raw_push_uri=as_path(service.get("HttpPushUri")),
        pull_times=apply_times(action),
        push_times=apply_times(service, "MultipartHttpPushUri"),
    )


async def read_service(session: Session) -> Json:
    """The update service; empty where there is none."""
    root = await session.get(ROOT)
    return await session.find(link_of(root.get("UpdateService"))) or {}


async def target_of(session: Session, slot: str) -> str:
    """The inventory member that stands for a slot, of two images the one that runs. Raises ControllerError without one.

    The list of an inventory mostly tells already which it is; its members are read only where it does not.
    """
    service = await read_service(session)
    lists = [link_of(service.get(name)) for name in ("FirmwareInventory", "SoftwareInventory")]
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


async def send_pull(session: Session, reach: Reach, target: str, uri: str) -> Accepted:
    """Ask the controller to fetch and write an image.

    Raises as ``Session.act``: after a LostAnswerError it may have been accepted.
    """
    assert reach.pull_target is not None
    body = {"ImageURI": uri, "Targets": [target], **_apply_time(session, reach, "pull")}
    return read_accepted(await session.act(reach.pull_target, body))


def _apply_time(session: Session, reach: Reach, way: str) -> Json:
    """When it is to be written, as far as that may be asked for. Raises ControllerError where no time will do."""
    try:
        time = reach.apply_time(way)
    except ValueError as error:
        message = f"it writes only at times that are not waited for here ({error}); nothing was sent"
        raise ControllerError(session.endpoint.name, "said no", message) from None
    return {} if time is None else {"@Redfish.OperationApplyTime": time}


async def send_push(session: Session, reach: Reach, target: str, image: Path) -> Accepted:
    """Upload an image to be written. Raises as ``send_pull``.

    By multipart where that is offered. The older push carries the image alone and the controller decides
    what it is for: it is used for nothing but the controller's own image.
    """
    if reach.push_uri is None:
        return await _send_raw(session, reach, target, image)
    parameters = {"Targets": [target], **_apply_time(session, reach, "push")}
    with image.open("rb") as file, aiohttp.MultipartWriter("form-data") as form:
        part = form.append(json.dumps(parameters), {"Content-Type": "application/json"})
        part.set_content_disposition("form-data", name="UpdateParameters")
        part = form.append(file, {"Content-Type": "application/octet-stream"})
        part.set_content_disposition("form-data", name="UpdateFile", filename=image.name)
        return read_accepted(await session.act(reach.push_uri, form))


async def _send_raw(session: Session, reach: Reach, target: str, image: Path) -> Accepted:
    entry = await session.find(target) or {}
    first = next(iter(as_list(entry.get("RelatedItem"))), None)
    if reach.raw_push_uri is None or "/Managers/" not in (link_of(first) or ""):
        message = "it takes no image but the controller's own until the controller itself is updated"
        raise ControllerError(session.endpoint.name, "said no", message)
    return read_accepted(await session.act(reach.raw_push_uri, image.read_bytes()))
