"""Starting a server once from a service partition of its own flash store (N4.8): a boot source override set to *Once*.

A boot option names what it starts from by ``RelatedItem`` (BootOption schema): the partition's volume, or its entry of
``SoftwareInventory``. The next start is sent to it by its reference (``UefiBootNext``), or by its device path
(``UefiTarget``) where that is all that is offered (ComputerSystem schema, Boot).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ordnung.controllers.answers import Json, as_dict, as_list, as_text, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.inventory import find_entry
from ordnung.controllers.partitions import volumes_of
from ordnung.controllers.session import Session
from ordnung.controllers.systems import own_system, path_of
from ordnung.controllers.update_service import read_service
from ordnung.core.components import Start

BY_REFERENCE, BY_PATH = "UefiBootNext", "UefiTarget"
"""BootSourceOverrideTarget of one boot option, the safer first: a device path may hold for more than one."""
OF_OPTIONS = (BY_REFERENCE, BY_PATH)
_TOLD = {BY_REFERENCE: ("BootNext", "BootOptionReference"), BY_PATH: ("UefiTargetBootSourceOverride", "UefiDevicePath")}
"""For each, where the system says which option is meant, and what of the option stands there."""


def start_of(system: Json, override: Json, options: Sequence[Json], entry: Json) -> Start | None:
    """Whether the server can be started from a service partition, and whether its next start goes there already.

    None also where its controller does not show what was chosen: nobody could see it, or take it back.
    """
    option = _option_for(options, entry)
    is_shown = "BootSourceOverrideEnabled" in as_dict(system.get("Boot"))
    if option is None or not is_shown or _choice(system, option) is None:
        return None
    return Start.POSSIBLE if chosen_option(override, [option]) is None else Start.NEXT


def chosen_option(override: Json, options: Sequence[Json]) -> Json | None:
    """The boot option that an override in force sends a start to; None where that is none of these."""
    target = as_text(override.get("BootSourceOverrideTarget"))
    if target not in _TOLD:
        return None
    where, what = _TOLD[target]
    meant = as_text(override.get(where))
    return next((one for one in options if meant is not None and as_text(one.get(what)) == meant), None)


async def choose_start(session: Session, slot: str) -> None:
    """Send the next start, once, to a service partition. Nothing is reset. Asked for twice it is the same.

    Raises as ``Session.change``; ControllerError also where the server can't be started from it.
    """
    system = await own_system(session)
    service = await read_service(session)
    partitions = await session.members(link_of(service.get("SoftwareInventory")))
    entry = find_entry(partitions, slot)
    options = await session.members(link_of(as_dict(system.get("Boot")).get("BootOptions")))
    option = _option_for(options, entry) if entry is not None else None
    choice = _choice(system, option) if option is not None else None
    if choice is None:
        raise ControllerError(session.endpoint.name, "said no", f"it can't be told to start from {slot}")
    boot = {"BootSourceOverrideEnabled": "Once", **choice}
    await session.change(path_of(session, system), system, {"Boot": boot})


def _option_for(options: Sequence[Json], entry: Json) -> Json | None:
    """The one boot option that starts from a partition; several leave open what would be started."""
    places = {*volumes_of(entry), (link_of(entry) or "").rstrip("/")} - {""}
    found = [one for one in options if one.get("BootOptionEnabled") is not False and places & _related(one)]
    return found[0] if len(found) == 1 else None


def _related(option: Json) -> set[str]:
    return {(link_of(item) or "").rstrip("/") for item in as_list(option.get("RelatedItem"))}


def _choice(system: Json, option: Json) -> dict[str, Any] | None:
    """What chooses a boot option, in the way that is offered; None where none is."""
    boot = as_dict(system.get("Boot"))
    if not _allows(boot, "BootSourceOverrideEnabled", "Once"):
        return None
    for target, (where, what) in _TOLD.items():
        meant = as_text(option.get(what))
        if meant is not None and _allows(boot, "BootSourceOverrideTarget", target):
            return {"BootSourceOverrideTarget": target, where: meant}
    return None


def _allows(boot: Json, name: str, value: str) -> bool:
    """Whether a value may be set; a service need not say which (DSP0266, "Allowable values")."""
    told = boot.get(f"{name}@Redfish.AllowableValues")
    return not isinstance(told, list) or value in told
