"""Bring a payload to a controller (DSP2062: push by multipart, or SimpleUpdate)."""

from __future__ import annotations

import json
from pathlib import Path

import aiohttp

from ordnung.controllers.answers import Json
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import Session
from ordnung.controllers.tasks import read_accepted
from ordnung.controllers.types import Accepted, Reach


async def send_pull(session: Session, reach: Reach, target: str, uri: str) -> Accepted:
    """Ask the controller to fetch and write an image.

    Raises:
        UnknownParameterError: it knows no targets.
        ControllerError: as ``Session.act``; after a LostAnswerError it may have been accepted.
    """
    assert reach.pull_target is not None
    body = {"ImageURI": uri, **_naming(target), **_apply_time(session, reach, "pull")}
    return read_accepted(await session.act(reach.pull_target, body))


def _naming(target: str) -> Json:
    return {"Targets": [target]} if target else {}


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

    By multipart where that is offered. The older push carries the image alone, and the controller decides what it is
    for.
    """
    time = _apply_time(session, reach, "push")
    if reach.push_uri is None:
        assert reach.raw_push_uri is not None
        return read_accepted(await session.act(reach.raw_push_uri, image.read_bytes()))
    parameters = {**_naming(target), **time}
    with image.open("rb") as file, aiohttp.MultipartWriter("form-data") as form:
        part = form.append(json.dumps(parameters), {"Content-Type": "application/json"})
        part.set_content_disposition("form-data", name="UpdateParameters")
        part = form.append(file, {"Content-Type": "application/octet-stream"})
        part.set_content_disposition("form-data", name="UpdateFile", filename=image.name)
        return read_accepted(await session.act(reach.push_uri, form))
