"""What an update service offers (UpdateService schema): how images are brought to it, when, and what they may name."""

from __future__ import annotations

from ordnung.controllers.actions import Find, allowed_values, apply_times, takes
from ordnung.controllers.answers import Json, as_dict, as_number, as_path, as_text, link_of
from ordnung.controllers.session import ROOT, Session
from ordnung.controllers.types import Reach


async def read_reach(session: Session) -> Reach:
    """What this controller can do, by reading its update service."""
    service = await read_service(session)
    action = pull_action(service)
    pulls = await allowed_values(session.find, action, "TransferProtocol")
    push_uri = as_path(service.get("MultipartHttpPushUri"))
    return Reach(
        push_uri=push_uri,
        pull_target=as_path(action.get("target")),
        pulls=None if pulls is None else tuple(name.upper() for name in pulls),
        max_image_bytes=as_number(service.get("MaxImageSizeBytes")),
        raw_push_uri=as_path(service.get("HttpPushUri")),
        pull_times=apply_times(action),
        push_times=apply_times(service, "MultipartHttpPushUri") if push_uri else _set_time(service),
        targets=await read_targets(session.find, service),
    )


def _set_time(service: Json) -> tuple[str, ...] | None:
    """The apply time of images that are pushed alone, as it is set (``HttpPushUriOptions``); None where none is."""
    options = as_dict(as_dict(service.get("HttpPushUriOptions")).get("HttpPushUriApplyTime"))
    time = as_text(options.get("ApplyTime"))
    return (time,) if time else None


async def read_service(session: Session) -> Json:
    """The update service; empty where there is none."""
    root = await session.get(ROOT)
    return await session.find(link_of(root.get("UpdateService"))) or {}


def pull_action(service: Json) -> Json:
    """The action by which it fetches images; empty where it fetches none."""
    return as_dict(as_dict(service.get("Actions")).get("#UpdateService.SimpleUpdate"))


async def read_targets(find: Find, service: Json) -> tuple[str, ...] | None:
    """What an update may name as what it is for: None where that is not told, empty where a pull takes no targets.

    Raises:
        ControllerError: its ActionInfo can't be read now.
    """
    action = pull_action(service)
    told = await allowed_values(find, action, "Targets")
    if told is not None:
        return tuple(path.rstrip("/") for path in told)
    return None if await takes(find, action, "Targets") else ()


async def decides_by_image(find: Find, service: Json) -> bool:
    """Whether nothing can be named, as far as the service tells: images are pushed alone, or fetched without targets.

    Raises:
        ControllerError: its ActionInfo can't be read now.
    """
    if as_path(service.get("MultipartHttpPushUri")) is not None:
        return False
    if as_path(pull_action(service).get("target")) is not None:
        return await read_targets(find, service) == ()
    return as_path(service.get("HttpPushUri")) is not None
