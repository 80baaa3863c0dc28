"""What a reading says of a server besides its components, and what of it will get in the way (N1.8, N5.6)."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ordnung.core.components import Server

CLOCK_S = 120.0
"""A clock that is off by more than this makes logs misleading; certificates fail at days."""
CERTIFICATE_DAYS = 30

PASSING = ("PoweringOn", "PoweringOff")
"""Of PowerState (Resource schema) those that pass by themselves: it is being restarted, or switched."""
FIRMWARE_DONE = ("SystemHardwareInitializationComplete", "OSBootStarted")
"""How far a start is whose firmware is done (BootProgress.LastState): many tell no further than to one of these."""
AT_REST = (None, "None", *FIRMWARE_DONE, "OSRunning")
"""The same, where nothing is told, or that its own system runs."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Licence:
    """A licence of a controller: whether it is in force, and until when."""

    name: str
    valid: bool
    ends: datetime.date | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """Read from the controller; None or empty where it does not tell."""

    power: str | None = None
    boot: str | None = None
    """How far its system has come (BootProgress)."""
    health: str | None = None
    clock_off_s: float | None = None
    certificate_ends: datetime.date | None = None
    role: str | None = None
    factory_account: bool = False
    licences: tuple[Licence, ...] = ()
    jobs: tuple[str, ...] = ()
    rebuilding: tuple[str, ...] = ()
    arrays_broken: tuple[str, ...] = ()
    """Volumes that are degraded or failed, with their state."""
    locked: str | None = None
    """Why it takes no update at all now, in its own words."""
    largest_image: int | None = None
    """The largest image it takes, in bytes."""
    feeds_lost: tuple[str, ...] = ()
    pulls: tuple[str, ...] = ()
    """Protocols over which it fetches an image, in upper case."""
    push: str | None = None
    """``any`` takes an image for any component, ``image`` for what it fits, by the image alone, ``own`` its own only;
    None: takes none.
    """
    expands: bool = False
    volumes: tuple[tuple[str, str], ...] = ()
    """Every volume with its health, or its state where that is not plain ``Enabled``."""
    links: tuple[tuple[str, str], ...] = ()
    """Every network port with ``up`` or ``down``."""
    boot_order: tuple[str, ...] = ()
    """What it starts from, first to last, by the names that people see."""
    next_start: str | None = None
    """What a start goes to instead of that order, where somebody has chosen it (BootSourceOverrideTarget)."""
    next_start_stays: bool = False
    """Whether that holds for every start, and not for the next one only."""
    media_inserted: tuple[str, ...] = ()
    """What is inserted as virtual media."""
    settings: tuple[tuple[str, str], ...] = ()
    """The settings of its BIOS with their values."""
    settings_waiting: tuple[tuple[str, str], ...] = ()
    """Settings that somebody has changed, with the values that the next start makes active."""
    started: str | None = None
    """When the server was reset last, as its controller tells."""
    controller_started: str | None = None
    """When that itself was."""
    no_reset: tuple[tuple[str, str], ...] = ()
    """The kinds of resets that its controller does not offer for it, each with what it does not offer, in words."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Hindrance:
    """One thing that will get in the way of an update: what, as seen, and the remedy. ``stops`` bars updating."""

    what: str
    seen: str
    remedy: str
    stops: bool = False


def find_hindrances(server: Server, now: datetime.datetime) -> tuple[Hindrance, ...]:
    """Everything of a reading that will get in the way, what bars updating first."""
    facts = server.facts
    if facts is None:
        return ()
    found = [*_ways(facts), *_account(facts), *_trust(facts, now), *_state(server, facts), *_stores(server)]
    return tuple(sorted(found, key=lambda h: not h.stops))


def _ways(facts: Facts) -> list[Hindrance]:
    found = []
    for licence in facts.licences:
        if not licence.valid:
            remedy = "Have the licence renewed or installed; until then use another way of bringing the image."
            found.append(Hindrance(what="licence missing", seen=f"{licence.name} is not in force", remedy=remedy))
    if not facts.pulls and facts.push is None:
        remedy = "Bring the image by virtual media or by hand, or restore the licence it lacks."
        found.append(
            Hindrance(what="no way in", seen="it neither fetches nor takes an image", remedy=remedy, stops=True)
        )
    elif facts.push == "own" and not facts.pulls:
        remedy = "Update the controller first and read the server again: then the rest can follow."
        found.append(Hindrance(what="controller first", seen="it takes nothing but its own image", remedy=remedy))
    elif facts.push is None and "HTTPS" not in facts.pulls:
        remedy = "Let the repository be served over plain HTTP on the management network, or restore its licence."
        found.append(
            Hindrance(what="plain HTTP only", seen="it fetches over plain HTTP only and takes no push", remedy=remedy)
        )
    return found


def _account(facts: Facts) -> list[Hindrance]:
    found = []
    if facts.factory_account:
        remedy = "Change the password on the controller, then enter the new one here."
        found.append(Hindrance(what="factory credentials", seen="the account is as it was delivered", remedy=remedy))
    if facts.role is not None and facts.role not in ("Administrator", "Operator"):
        remedy = "Use an account that may configure components."
        seen = f"the account's role is {facts.role}"
        found.append(Hindrance(what="no permission", seen=seen, remedy=remedy, stops=True))
    return found


def _trust(facts: Facts, now: datetime.datetime) -> list[Hindrance]:
    found = []
    if facts.clock_off_s is not None and abs(facts.clock_off_s) > CLOCK_S:
        side = "ahead" if facts.clock_off_s > 0 else "behind"
        remedy = "Set the controller's clock or give it a time server; certificates look invalid to it otherwise."
        seen = f"its clock is {tell_span(abs(facts.clock_off_s))} {side}"
        found.append(Hindrance(what="clock wrong", seen=seen, remedy=remedy, stops=abs(facts.clock_off_s) > 86400))
    if facts.certificate_ends is not None:
        left = (facts.certificate_ends - now.date()).days
        if left < CERTIFICATE_DAYS:
            seen = f"its certificate ends in {left} days" if left >= 0 else f"its certificate ended {-left} days ago"
            remedy = "Renew the controller's certificate, then accept the new fingerprint here."
            found.append(Hindrance(what="certificate ends", seen=seen, remedy=remedy))
    return found


def _state(server: Server, facts: Facts) -> list[Hindrance]:
    found = []
    for job in facts.jobs:
        remedy = "Let it end or cancel it at the controller; it would be carried out with the next reset."
        found.append(Hindrance(what="job pending", seen=job, remedy=remedy, stops=True))
    for volume in facts.rebuilding:
        remedy = "Wait until it has rebuilt; a reset now puts its data at risk."
        found.append(Hindrance(what="array rebuilding", seen=volume, remedy=remedy, stops=True))
    for volume in facts.arrays_broken:
        remedy = "Replace what failed and let it rebuild before this server is reset."
        found.append(Hindrance(what="array broken", seen=volume, remedy=remedy, stops=True))
    if facts.locked:
        remedy = "Unlock it at the controller; until then it takes nothing."
        found.append(Hindrance(what="locked", seen=facts.locked, remedy=remedy, stops=True))
    if facts.settings_waiting:
        remedy = "Ask who changed them; let that reboot come first, or take them back at the controller."
        found.append(Hindrance(what="settings waiting", seen=tell_settings(facts), remedy=remedy, stops=True))
    if facts.next_start is not None and not facts.next_start_stays:
        remedy = "Ask who chose it and take it back at the controller, or let that start come first."
        found.append(Hindrance(what="next start", seen=tell_next_start(facts), remedy=remedy, stops=True))
    for name in facts.media_inserted:
        remedy = "Eject it at the controller, if nobody needs it: a reboot may start from it."
        found.append(Hindrance(what="virtual media", seen=f"{name} is inserted", remedy=remedy))
    for supply in facts.feeds_lost:
        remedy = "Restore the feed before anything is written."
        found.append(Hindrance(what="feed lost", seen=f"{supply} has no input", remedy=remedy, stops=True))
    supplies = {c.part or c.name for c in server.components if c.kind == "power"}
    if len(supplies) > 1:
        remedy = "Fit two alike; unlike supplies do not share the load as they should."
        found.append(Hindrance(what="unlike supplies", seen=" and ".join(sorted(supplies)), remedy=remedy))
    if facts.power not in (None, "On", *PASSING):
        remedy = "Some components are seen only while the server is on."
        found.append(Hindrance(what="server off", seen=f"its power is {facts.power}", remedy=remedy))
    elif facts.power in PASSING or facts.boot not in AT_REST:
        remedy = "Read it again once it runs: components may be missing from this reading that are listed only then."
        found.append(Hindrance(what="starting", seen="it was starting when it was read", remedy=remedy))
    return found


def _stores(server: Server) -> list[Hindrance]:
    return [
        Hindrance(
            what=f"partition {component.state}",
            seen=f"{component.name} is {component.state}",
            remedy="A partition that is blank or damaged is set up anew and filled from a repository.",
        )
        for component in server.components
        if component.state in ("blank", "damaged")
    ]


def tell_settings(facts: Facts) -> str:
    """Which settings wait for the next start, in words."""
    told = [f"{name} → {value}" for name, value in facts.settings_waiting]
    more = f" and {len(told) - _TOLD} more" if len(told) > _TOLD else ""
    return f"settings of its BIOS wait for the next reboot: {', '.join(told[:_TOLD])}{more}"


_TOLD = 4


def tell_next_start(facts: Facts) -> str:
    """Where a start goes that somebody has chosen, in words."""
    which = "every start goes" if facts.next_start_stays else "its next start goes, once,"
    return f"{which} to {facts.next_start} instead of its own order, as somebody has chosen"


def tell_span(seconds: float) -> str:
    """A span of time in the unit that suits it."""
    for unit, size in (("years", 31_557_600.0), ("days", 86400.0), ("h", 3600.0), ("min", 60.0)):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {unit}"
    return f"{seconds:.0f} s"


def worst_health(healths: Sequence[str | None]) -> str | None:
    """The worst of several states of health, None when none is told."""
    order = ("OK", "Warning", "Critical")
    known = [h for h in healths if h in order]
    return max(known, key=order.index, default=None)
