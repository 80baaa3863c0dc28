"""What a start would begin with instead of the server's own system: a source chosen for it, a disc left inserted."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from ordnung.controllers.answers import Json, as_dict, as_text, is_true, link_of
from ordnung.controllers.reader import Reader
from ordnung.controllers.starts import OF_OPTIONS, chosen_option
from ordnung.controllers.surroundings import option_name, read_boot_options
from ordnung.controllers.tree import Found

OWN_STARTS = ("None", "Hdd")
"""BootSourceOverrideTarget that is no other start than the usual one."""


@dataclass(frozen=True, slots=True, kw_only=True)
class NextStart:
    """``target``: where a start is sent, by the name of its boot option where it is one; None where nobody chose.
    ``stays``: every start is. ``media``: what is inserted as virtual media, by name.
    """

    target: str | None = None
    stays: bool = False
    media: tuple[str, ...] = ()


async def read_next_start(reader: Reader, found: Found) -> NextStart:
    """Read what a start would begin with. Raises ControllerError when the controller can't be used any more."""
    boot, media = await asyncio.gather(read_override(reader, found.system), _inserted(reader, found))
    target = as_text(boot.get("BootSourceOverrideTarget"))
    option = chosen_option(boot, await read_boot_options(reader, found.system)) if target in OF_OPTIONS else None
    stays = boot.get("BootSourceOverrideEnabled") == "Continuous"
    name = option_name(option) if option is not None else None
    # Never the bare name: an option may be called "Cd", and is no disc of ours for that.
    return NextStart(target=f"the boot option {name}" if name else target, stays=stays, media=media)


async def read_override(reader: Reader, system: Json) -> Json:
    """The boot source override that is in force (ComputerSystem, Boot); empty where a start is the usual one.

    Some services keep what was chosen apart until the next reset (DSP0266, "Settings resource").
    """
    settings = as_dict(system.get("@Redfish.Settings"))
    pending = await reader.allowed(link_of(as_dict(settings.get("SettingsObject"))))
    for body in (pending, system):
        boot = as_dict(body.get("Boot"))
        enabled, target = as_text(boot.get("BootSourceOverrideEnabled")), as_text(boot.get("BootSourceOverrideTarget"))
        if enabled in ("Once", "Continuous") and target not in (None, *OWN_STARTS):
            return boot
    return {}


async def _inserted(reader: Reader, found: Found) -> tuple[str, ...]:
    """What is inserted, at the system (ComputerSystem 1.13) or at its manager, as older services have it."""
    paths = dict.fromkeys(link_of(one.get("VirtualMedia")) for one in (found.system, found.manager))
    groups = await asyncio.gather(*(reader.allowed_members(path) for path in paths if path))
    return tuple(dict.fromkeys(_name(one) for group in groups for one in group if is_true(one.get("Inserted"))))


def _name(body: Json) -> str:
    """By what people know it: never the whole address, which may hold a password."""
    try:
        last = unquote(urlsplit(as_text(body.get("Image")) or "").path).rsplit("/", 1)[-1]
    except ValueError:
        last = ""
    return as_text(body.get("ImageName")) or as_text(last) or as_text(body.get("Name")) or "a disc"
