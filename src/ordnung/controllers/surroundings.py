"""What surrounds the firmware and must be after an update as it was before: links, boot order, settings (N6.1)."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from dataclasses import dataclass

from ordnung.controllers.answers import Json, as_dict, as_text, link_of
from ordnung.controllers.reader import Reader, gather
from ordnung.controllers.tree import Found

MOST, LONGEST = 1000, 200
"""How many pairs and how long a name the readings' format takes."""
_UP, _DOWN = ("LinkUp", "Up"), ("LinkDown", "NoLink", "Down")
"""``Port.LinkStatus`` and ``NetworkPort.LinkStatus``; what is still training is neither."""

Pairs = tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Surroundings:
    """Empty where the controller does not tell; the names are those that people see."""

    links: Pairs = ()
    boot_order: tuple[str, ...] = ()
    settings: Pairs = ()
    settings_waiting: Pairs = ()


async def read_surroundings(reader: Reader, found: Found) -> Surroundings:
    """Read what stands around the components; what is missing or barred is left out.

    Raises:
        ControllerError: the controller can't be used any more.
    """
    links, order, (settings, waiting) = await asyncio.gather(
        _links(reader, found), _boot_order(reader, found.system), _settings(reader, found.system)
    )
    return Surroundings(links=links, boot_order=order, settings=settings, settings_waiting=waiting)


def as_pairs(told: Iterable[tuple[str, str | None]]) -> Pairs:
    """Names with what is told of them, each name once: one that stands twice gets a number. Untold is left out."""
    pairs: dict[str, str] = {}
    for name, state in told:
        short, count = name[: LONGEST - 6], 1
        key = short
        while key in pairs:
            count += 1
            key = f"{short}#{count}"
        if state is not None and len(pairs) < MOST:
            pairs[key] = state
    return tuple(sorted(pairs.items()))


async def _links(reader: Reader, found: Found) -> Pairs:
    """The ports of every card; where cards tell none, the interfaces of the system."""
    cards = [part for part in found.parts if part.kind == "nic"]
    groups = await gather(_ports(reader, part.body) for part in cards)
    told = [
        (f"{card.slot} port {_name(port)}", _link(port))
        for card, ports in zip(cards, groups, strict=True)
        for port in ports
    ]
    if not any(state for _, state in told):
        interfaces = await reader.allowed_members(link_of(found.system.get("EthernetInterfaces")))
        told = [(_name(body), _link(body)) for body in interfaces]
    return as_pairs(told)


async def _ports(reader: Reader, card: Json) -> list[Json]:
    return await reader.allowed_members(link_of(card.get("Ports")) or link_of(card.get("NetworkPorts")))


def _name(body: Json) -> str:
    return as_text(body.get("Id")) or as_text(body.get("Name")) or "?"


def _link(body: Json) -> str | None:
    state = as_text(body.get("LinkStatus"))
    return "up" if state in _UP else "down" if state in _DOWN else None


async def _boot_order(reader: Reader, system: Json) -> tuple[str, ...]:
    """The order by what each option is called: references alone may be numbered anew by any start."""
    boot = as_dict(system.get("Boot"))
    told = boot.get("BootOrder")
    order = [text for item in told if (text := as_text(item))][:LONGEST] if isinstance(told, list) else []
    options = await read_boot_options(reader, system) if order else []
    called = {as_text(option.get("BootOptionReference")): option_name(option) for option in options}
    return tuple(called.get(reference) or reference for reference in order)


async def read_boot_options(reader: Reader, system: Json) -> list[Json]:
    """What the server could start from, as far as its controller tells."""
    return await reader.allowed_members(link_of(as_dict(system.get("Boot")).get("BootOptions")))


def option_name(option: Json) -> str | None:
    """What people know a boot option by."""
    return as_text(option.get("DisplayName")) or as_text(option.get("UefiDevicePath"))


async def _settings(reader: Reader, system: Json) -> tuple[Pairs, Pairs]:
    """The settings, and those that the next start makes otherwise (DSP0266, "Settings resource").

    Some services show there only what was changed, others everything: what differs is what waits.
    """
    bios = await reader.allowed(link_of(system.get("Bios")))
    settings = as_dict(bios.get("@Redfish.Settings"))
    chosen = await reader.allowed(link_of(as_dict(settings.get("SettingsObject"))))
    now, then = _attributes(bios), _attributes(chosen)
    known = dict(now)
    return now, tuple((name, value) for name, value in then if known.get(name, value) != value)


def _attributes(body: Json) -> Pairs:
    return as_pairs((name, _spell(value)) for name, value in as_dict(body.get("Attributes")).items() if name.strip())


def _spell(value: object) -> str | None:
    """A value as a registry of attributes allows it: text, number or flag; a password is told as null."""
    return str(value).lower() if isinstance(value, bool) else as_text(value)
