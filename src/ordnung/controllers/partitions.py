"""Setting up a service partition of a server's own flash store anew (N4.8): ``Volume.Initialize`` (Volume schema).

The partition is a member of ``SoftwareInventory``; its ``RelatedItem`` names the Volume that it lies on. A volume that
could hold anything else than this partition is left alone, whatever the controller says of it.
"""

from __future__ import annotations

from ordnung.controllers.answers import Json, as_dict, as_list, as_path, as_text, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.inventory import find_entry
from ordnung.controllers.session import Session
from ordnung.controllers.tasks import read_accepted
from ordnung.controllers.types import Accepted
from ordnung.controllers.update_service import read_service

QUICKEST = "Fast"


async def set_up(session: Session, slot: str) -> Accepted:
    """Have a partition set up anew; what is on it is lost. Asked for twice it is the same.

    Raises as ``Session.act``; ControllerError also where it offers no volume that is this partition and nothing else.
    """
    volume = await _volume_of(session, slot)
    action = as_dict(as_dict(volume.get("Actions")).get("#Volume.Initialize"))
    target = as_path(action.get("target"))
    if target is None:
        raise _refused(session, f"it does not let the partition {slot} be set up")
    told = action.get("InitializeType@Redfish.AllowableValues")
    offered = [kind for kind in told if isinstance(kind, str)] if isinstance(told, list) else []
    kind = QUICKEST if not offered or QUICKEST in offered else offered[0]
    return read_accepted(await session.act(target, {"InitializeType": kind}))


def volumes_of(entry: Json) -> list[str]:
    """The paths of the volumes that an entry of ``SoftwareInventory`` lies on."""
    links = [link_of(item) or "" for item in as_list(entry.get("RelatedItem"))]
    return [path.rstrip("/") for path in links if "/Volumes/" in path]


async def _volume_of(session: Session, slot: str) -> Json:
    """The one volume that a partition lies on. Raises ControllerError where that is not certain."""
    service = await read_service(session)
    partitions = await session.members(link_of(service.get("SoftwareInventory")))
    entry = find_entry(partitions, slot)
    if entry is None:
        raise _refused(session, f"{slot} is not among its service partitions any more")
    paths = volumes_of(entry)
    volume = await session.find(paths[0]) if len(paths) == 1 else None
    if volume is None:
        raise _refused(session, f"it does not say on which volume the partition {slot} lies")
    others = [one for one in partitions if one is not entry and set(paths) & set(volumes_of(one))]
    why = _tell_others(others) or await _may_hold_more(session, paths[0], volume)
    if why:
        raise _refused(session, f"the volume of the partition {slot} is left alone: {why}")
    return volume


def _tell_others(others: list[Json]) -> str:
    """Which other partitions lie on the same volume; empty when none does."""
    names = [as_text(one.get("Id")) or as_text(one.get("Name")) or "another one" for one in others]
    return f"{', '.join(names)} {'lies' if len(names) == 1 else 'lie'} on it as well" if names else ""


async def _may_hold_more(session: Session, path: str, volume: Json) -> str:
    """Why a volume could be something else than a partition of the flash store; empty when it can't."""
    if as_text(volume.get("RAIDType")) not in (None, "None"):
        return "it is part of an array"
    storage = await session.find(path.partition("/Volumes/")[0])
    if storage is None:
        return "nothing is told of the storage that it is on"
    if as_list(storage.get("Drives")) or as_list(as_dict(volume.get("Links")).get("Drives")):
        return "drives of this server hang on the same storage"
    return ""


def _refused(session: Session, detail: str) -> ControllerError:
    return ControllerError(session.endpoint.name, "said no", detail)
