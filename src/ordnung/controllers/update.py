"""Bring a payload to a controller and follow the task (DSP2062: push by multipart, or SimpleUpdate)."""

from __future__ import annotations

import json
from pathlib import Path
from urllib.parse import urlsplit

import aiohttp

from ordnung.controllers.client import Json, Session, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.types import Reach, TaskView


async def read_reach(session: Session) -> Reach:
    """What this controller can do, by reading its update service."""
    service = await _service(session)
    action = (service.get("Actions") or {}).get("#UpdateService.SimpleUpdate") or {}
    pulls = action.get("TransferProtocol@Redfish.AllowableValues") or ()
    return Reach(
        push_uri=_path(service.get("MultipartHttpPushUri")),
        pull_target=_path(action.get("target")),
        pulls=tuple(str(name).upper() for name in pulls),
        max_image_bytes=_number(service.get("MaxImageSizeBytes")),
        raw_push_uri=_path(service.get("HttpPushUri")),
    )


async def _service(session: Session) -> Json:
    root = await session.get("/redfish/v1/")
    return await session.find(link_of(root.get("UpdateService"))) or {}


def _number(value: object) -> int | None:
    return int(value) if isinstance(value, int | str) and str(value).isdigit() else None


def _path(value: object) -> str | None:
    return urlsplit(value).path if isinstance(value, str) else None


async def target_of(session: Session, slot: str) -> str:
    """The inventory member that stands for a slot. Raises ControllerError when it is gone."""
    service = await _service(session)
    for path in await session.members(link_of(service.get("FirmwareInventory"))):
        if path.rsplit("/", 1)[-1] == slot:
            return path
    raise ControllerError(session.endpoint.name, "said no", f"{slot} is not in its inventory any more")


async def send_pull(session: Session, reach: Reach, target: str, uri: str) -> str:
    """Ask the controller to fetch and write an image; returns the task's path.

    Raises as ``Session.act``: after a LostAnswerError it may have been accepted.
    """
    assert reach.pull_target is not None
    body = {"ImageURI": uri, "Targets": [target], "@Redfish.OperationApplyTime": "Immediate"}
    answer = await session.act(reach.pull_target, body)
    return _task_path(session, answer.body, answer.headers.get("Location"))


async def send_push(session: Session, reach: Reach, target: str, image: Path) -> str:
    """Upload an image to be written; returns the task's path. Raises as ``send_pull``.

    By multipart where that is offered. The older push carries the image alone and the controller decides
    what it is for: it is used for nothing but the controller's own image.
    """
    if reach.push_uri is None:
        return await _send_raw(session, reach, target, image)
    parameters = {"Targets": [target], "@Redfish.OperationApplyTime": "Immediate"}
    with image.open("rb") as file, aiohttp.MultipartWriter("form-data") as form:
        part = form.append(json.dumps(parameters), {"Content-Type": "application/json"})
        part.set_content_disposition("form-data", name="UpdateParameters")
        part = form.append(file, {"Content-Type": "application/octet-stream"})
        part.set_content_disposition("form-data", name="UpdateFile", filename=image.name)
        answer = await session.act(reach.push_uri, form)
    return _task_path(session, answer.body, answer.headers.get("Location"))


async def _send_raw(session: Session, reach: Reach, target: str, image: Path) -> str:
    entry = await session.find(target) or {}
    related = entry.get("RelatedItem")
    first = link_of(related[0]) if isinstance(related, list) and related else None
    if reach.raw_push_uri is None or "/Managers/" not in (first or ""):
        told = "it takes no image but the controller's own until the controller itself is updated"
        raise ControllerError(session.endpoint.name, "said no", told)
    answer = await session.act(reach.raw_push_uri, image.read_bytes())
    return _task_path(session, answer.body, answer.headers.get("Location"))


def _task_path(session: Session, body: Json, location: str | None) -> str:
    path = link_of(body) or _path(location)
    if path is None:
        raise ControllerError(session.endpoint.name, "malformed answer", "it took the image but named no task")
    return path


async def read_task(session: Session, path: str) -> TaskView | None:
    """A task, or None when the controller does not know it any more."""
    task = await session.find(path)
    return None if task is None else _view(path, task)


async def list_tasks(session: Session) -> list[TaskView]:
    """All tasks the controller knows that concern updates."""
    root = await session.get("/redfish/v1/")
    service = await session.find(link_of(root.get("Tasks"))) or {}
    views = []
    for path in await session.members(link_of(service.get("Tasks"))):
        view = await read_task(session, path)
        if view is not None:
            views.append(view)
    return views


def _view(path: str, task: Json) -> TaskView:
    messages = [m for m in task.get("Messages") or () if isinstance(m, dict)]
    last = messages[-1] if messages else {}
    percent = task.get("PercentComplete")
    return TaskView(
        uri=path,
        state=str(task.get("TaskState") or "Completed"),
        percent=_number(percent),
        phase="writing" if any("InstallingOn" in str(m.get("MessageId")) for m in messages) else "staging",
        targets=_targets(task),
        message=str(last.get("Message") or "")[:400],
        transfer_failed=any(str(m.get("MessageId")).endswith(".TransferFailed") for m in messages),
    )


def _targets(task: Json) -> tuple[str, ...]:
    raw = (task.get("Payload") or {}).get("JsonBody")
    try:
        body = json.loads(raw) if isinstance(raw, str) else {}
    except ValueError:
        return ()
    targets = body.get("Targets") if isinstance(body, dict) else None
    return tuple(str(t) for t in targets) if isinstance(targets, list) else ()
